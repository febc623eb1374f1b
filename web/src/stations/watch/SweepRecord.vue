<script setup lang="ts">
/** The record of one sweep: when, how long, how many, what it cost in calls; and the way to take all of it back. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { dateOf, plural, timeOf } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { sweepQuery } from './queries'

const props = defineProps<{ sweep: number }>()
const asked = useQuery(computed(() => ({ ...sweepQuery(props.sweep), retry: false })))
const { data } = asked
const message = computed(() => {
  const one = data.value?.sweep
  if (!one) return ''
  const seconds = one.ended ? Math.max(Math.round((Date.parse(one.ended) - Date.parse(one.started)) / 1000), 0) : null
  return [
    `${one.state}${seconds === null ? '' : ` in ${seconds} s`}`,
    plural(one.items, 'item'),
    plural(one.changes, 'change'),
    one.doubted && `${one.doubted} doubted`,
    one.refused && `${one.refused} refused`,
    plural(one.calls, 'call'),
    one.retries && plural(one.retries, 'retry', 'retries'),
    `asked by ${one.asked_by === 'schedule' ? 'the clock' : one.asked_by}`,
    one.message,
  ]
    .filter(Boolean)
    .join(', ')
})
const undo = () => act(() => take(api.POST('/api/v1/watch/sweeps/{sweep}/undo', { params: { path: { sweep: props.sweep } } })))
</script>

<template>
  <Sight :of="asked" :lines="1" />
  <p v-if="data" class="sheet flex items-center gap-3 px-3 py-2">
    <span class="flex-1"
      ><b>{{ data.supplier }}, {{ dateOf(data.sweep.started) }} {{ timeOf(data.sweep.started) }}</b
      >: {{ message }}</span
    ><Btn small @click="undo">Take the whole sweep back</Btn>
  </p>
</template>
