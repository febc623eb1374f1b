<script setup lang="ts">
/** A change that has not happened yet, with what it would do to every price; only then is it made. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { askAgain } from '@/app/live'
import { tellDone, wordsOf } from '@/app/messages'
import Btn from './Btn.vue'
import Effects from './Effects.vue'
import Modal from './Modal.vue'
import { count } from './format'
import { whatIfQuery } from '@/stations/price/queries'

type Draft = Pick<Schema<'WhatIfAsk'>, 'fees' | 'terms' | 'policy' | 'rate'>
const props = defineProps<{ title: string; draft: Draft }>()
const emit = defineEmits<{ close: []; done: [] }>()
const { data: view, error, isFetching, refetch } = useQuery(computed(() => ({ ...whatIfQuery(props.draft), retry: false, staleTime: 0 })))
const wrong = ref('')
const left = ref(new Set<number>())
function toggle(listing: number) {
  const next = new Set(left.value)
  if (!next.delete(listing)) next.add(listing)
  left.value = next
}
const moving = computed(() => (view.value?.counts.rise ?? 0) + (view.value?.counts.fall ?? 0) - left.value.size)
async function apply() {
  if (!view.value || isFetching.value) return
  try {
    const body = { ...props.draft, seen: view.value.counts, leave: [...left.value] }
    const now = await tellDone((await take(api.POST('/api/v1/prices/apply', { body }))).message)
    emit('done')
    await askAgain(now)
  } catch (problem) {
    wrong.value = wordsOf(problem)
    await refetch()
  }
}
</script>

<template>
  <Modal
    open
    wide
    :title="title"
    message="Nothing has happened yet. This is what it would do at today's costs; it can be undone afterwards."
    @close="emit('close')"
  >
    <p v-if="error || wrong" role="alert" class="mb-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error ? wordsOf(error) : wrong }}</p>
    <div v-if="view" class="max-h-[58vh] overflow-auto"><Effects :view="view" draft :left="left" @toggle="toggle" /></div>
    <p v-else-if="!error" class="text-soft">Working out every price…</p>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="main" :disabled="!view || isFetching" @click="apply">{{
        moving ? `Save, and change ${count(moving)} prices` : 'Save'
      }}</Btn></template
    >
  </Modal>
</template>
