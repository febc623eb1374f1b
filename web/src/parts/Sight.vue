<script setup lang="ts">
/** What a view shows of an answer: a quiet skeleton until it is there, its emptiness, its failure, or that it is old. Never a word that could
 *  be false while the answer is on its way. */
import { computed, onScopeDispose, ref, watch, type Ref } from 'vue'
import { wordsOf } from '@/app/messages'
import Empty from './Empty.vue'
import { timeOf } from './format'

/** Of a query what is looked at here; `isPlaceholderData`: what is shown answers the question before. */
export interface Asked {
  data: Ref<unknown>
  error: Ref<unknown>
  isPlaceholderData?: Ref<boolean>
  dataUpdatedAt?: Ref<number>
  refetch: () => unknown
}
const props = defineProps<{
  of: Asked
  /** Whether what was answered holds nothing. */
  empty?: boolean
  title?: string
  message?: string
  /** Lines of the skeleton. */
  lines?: number
}>()
const data = computed(() => props.of.data.value)
const error = computed(() => props.of.error.value)
const waits = computed(() => data.value === undefined && !error.value)
/** An answer that comes at once shows no skeleton that only flickers. */
const late = ref(false)
let timer: ReturnType<typeof setTimeout> | undefined
watch(
  waits,
  (now) => {
    clearTimeout(timer)
    late.value = false
    if (now) timer = setTimeout(() => (late.value = true), 150)
  },
  { immediate: true },
)
onScopeDispose(() => clearTimeout(timer))
const asOf = computed(() => (props.of.dataUpdatedAt?.value ? timeOf(new Date(props.of.dataUpdatedAt.value).toISOString()) : ''))
const retry = () => void props.of.refetch()
</script>

<template>
  <div v-if="waits" aria-busy="true" class="p-4" data-sight="loading">
    <span class="sr-only">Loading</span>
    <div v-if="late" aria-hidden="true">
      <p v-for="n in lines ?? 4" :key="n" class="my-3 h-2.5 rounded bg-rule-2" :style="{ width: `${[62, 84, 47, 71][n % 4]}%` }" />
    </div>
  </div>
  <div v-else-if="data === undefined" role="alert" class="p-6 text-center text-brick" data-sight="failed">
    {{ wordsOf(error) }} <button type="button" class="font-semibold text-slate underline" @click="retry">Try again</button>
  </div>
  <template v-else>
    <p v-if="error" role="alert" class="border-b border-brick bg-brick-wash px-3.5 py-1.5 text-xs text-brick" data-sight="stale">
      As it was{{ asOf ? ` at ${asOf}` : '' }}: {{ wordsOf(error) }}
      <button type="button" class="font-semibold text-slate underline" @click="retry">Try again</button>
    </p>
    <slot v-if="empty" name="empty"><Empty :title="title ?? 'Nothing is here'" :message="message" /></slot>
    <slot v-else />
  </template>
</template>
