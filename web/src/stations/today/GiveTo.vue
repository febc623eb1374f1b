<script setup lang="ts">
/** To whom a row is given: those who may do what it takes; nobody makes it everybody's again. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import { helpersQuery } from './queries'

const props = defineProps<{ row: Schema<'AlertOut'> }>()
const { data: helpers } = useQuery(computed(() => helpersQuery(props.row.station)))
const to = computed(() => helpers.value?.find((one) => one.name === props.row.given)?.id ?? 0)
const give = (person: number) =>
  void act(() => take(api.POST('/api/v1/today/give', { body: { key: props.row.key, person: person || null } })))
</script>

<template>
  <label v-if="(helpers?.length ?? 0) > 1" class="flex items-center gap-1.5 text-soft"
    >Given to
    <select
      class="field h-7! w-36! py-0! text-xs"
      :value="to"
      :aria-label="`Given to: ${row.message}`"
      @change="give(Number(($event.target as HTMLSelectElement).value))"
    >
      <option :value="0">nobody</option>
      <option v-for="one in helpers" :key="one.id" :value="one.id">{{ one.name }}</option>
    </select></label
  >
</template>
