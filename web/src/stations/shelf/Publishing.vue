<script setup lang="ts">
/** A publishing under way: how many, how fast, and what failed, by its reason; failed ones go again alone. */
import { computed, onBeforeUnmount, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { askAgain, lookNow } from '@/app/live'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { count, plural } from '@/parts/format'

interface Result {
  sent: number[]
  failed: { listing: number; reason: string }[]
}
const props = defineProps<{ listings: number[] }>()
const emit = defineEmits<{ close: [] }>()
const job = ref<Schema<'JobOut'> | null>(null)
const way = ref<Schema<'OnItsWay'> | null>(null)
const error = ref('')
const began = Date.now()
const took = ref(0)
let timer: ReturnType<typeof setTimeout> | undefined
const result = computed(() => (job.value?.state === 'done' ? (job.value.result as unknown as Result) : null))
const missing = computed(() => group((result.value?.failed ?? []).map((one) => one.reason)))
function group(reasons: string[]) {
  const found = new Map<string, number>()
  for (const reason of reasons) found.set(reason, (found.get(reason) ?? 0) + 1)
  return [...found].sort((a, b) => b[1] - a[1])
}
const reached = computed(() => (way.value ? way.value.there + way.value.refused_ids.length : 0))
const speed = computed(() => (took.value > 0 ? reached.value / (took.value / 1000) : 0))
const over = computed(() => !!result.value && (!result.value.sent.length || (!!way.value && way.value.waiting === 0)))
async function look() {
  try {
    if (!result.value) job.value = await take(api.GET('/api/v1/jobs/{number}', { params: { path: { number: number.value! } } }))
    if (result.value?.sent.length) way.value = await take(api.POST('/api/v1/shelf/on-its-way', { body: { listings: result.value.sent } }))
    if (job.value?.state === 'failed' || job.value?.state === 'stopped') error.value = job.value.message
  } catch (problem) {
    error.value = wordsOf(problem)
  }
  if (!over.value) took.value = Date.now() - began
  if (!over.value && !error.value) timer = setTimeout(look, 500)
  else void lookNow().then(askAgain)
}
const number = ref<number | null>(null)
void take(api.POST('/api/v1/shelf/publish', { body: { listings: props.listings } }))
  .then((started) => {
    number.value = started.job
    return look()
  })
  .catch((problem) => (error.value = wordsOf(problem)))
onBeforeUnmount(() => clearTimeout(timer))
async function again() {
  const ids = way.value!.refused_ids
  if (await act(() => take(api.POST('/api/v1/shelf/again', { body: { listings: ids } })))) void look()
}
</script>

<template>
  <Modal
    open
    :title="`Publishing ${plural(listings.length, 'listing')}`"
    message="At the prices and quantities of now. You can close this; it goes on by itself."
    @close="emit('close')"
  >
    <div aria-live="polite">
      <p v-if="!result && !error">{{ job ? `${job.done} of ${job.total} made ready` : 'Making them ready…' }}</p>
      <template v-if="result">
        <p v-if="result.sent.length">
          <b class="text-pine">{{ way?.there ?? 0 }}</b> of {{ result.sent.length }} shown by their stores<span v-if="way?.waiting"
            >, {{ way.waiting }} on their way</span
          ><span v-if="speed >= 1">, {{ count(speed) }} a second</span>
        </p>
        <span v-if="result.sent.length" class="mt-2 flex h-2 overflow-hidden rounded bg-rule-2"
          ><span class="h-full bg-pine" :style="{ width: `${(100 * (way?.there ?? 0)) / result.sent.length}%` }" /><span
            class="h-full bg-brick"
            :style="{ width: `${(100 * (way?.refused_ids.length ?? 0)) / result.sent.length}%` }"
        /></span>
        <template v-if="way?.refused_ids.length">
          <p class="mt-3 font-semibold text-brick">{{ way.refused_ids.length }} refused by the store</p>
          <p v-for="[reason, n] in Object.entries(way.refused)" :key="reason" class="grid grid-cols-[44px_1fr] border-t border-rule-2 py-1">
            <b class="text-right">{{ n }}</b><span class="pl-3">{{ reason }}</span>
          </p>
        </template>
        <template v-if="missing.length">
          <p class="mt-3 font-semibold text-amber-ink">{{ result.failed.length }} stay in preparation; something is missing</p>
          <p v-for="[reason, n] in missing" :key="reason" class="grid grid-cols-[44px_1fr] border-t border-rule-2 py-1">
            <b class="text-right">{{ n }}</b><span class="pl-3">{{ reason }}</span>
          </p>
        </template>
      </template>
    </div>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn v-if="way?.refused_ids.length" @click="again">Send the refused ones again</Btn
      ><Btn kind="main" @click="emit('close')">{{ over ? 'Close' : 'Leave it running' }}</Btn></template
    >
  </Modal>
</template>
