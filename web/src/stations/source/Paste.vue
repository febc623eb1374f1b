<script setup lang="ts">
/** Links or numbers, one a line: each ends as a listing in preparation, or among the failures with its reason. */
import { computed, onBeforeUnmount, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { askAgain } from '@/app/live'
import { tellDone, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { plural, count } from '@/parts/format'

interface Result {
  message: string
  counts: { made: number; same: number; failed: number }
  failed: { line: number; text: string; reason: string }[]
}
const props = defineProps<{ stores: Schema<'StoreOut'>[]; store: number }>()
const emit = defineEmits<{ close: [] }>()
const text = ref('')
const store = ref(props.store)
const job = ref<Schema<'JobOut'> | null>(null)
const error = ref('')
let timer: ReturnType<typeof setTimeout> | undefined
const lines = computed(() => text.value.split('\n').filter((line) => line.trim()).length)
const result = computed(() => (job.value?.state === 'done' ? (job.value.result as unknown as Result) : null))
const running = computed(() => !!job.value && !['done', 'failed', 'stopped'].includes(job.value.state))
/** Failures by their reason, so that five hundred of them stay readable. */
const groups = computed(() => {
  const found = new Map<string, Result['failed']>()
  for (const one of result.value?.failed ?? []) {
    const reason = one.reason.replace(/line \d+/, 'an earlier line')
    found.set(reason, [...(found.get(reason) ?? []), one])
  }
  return [...found].sort((a, b) => b[1].length - a[1].length)
})
async function bring() {
  error.value = ''
  try {
    const started = await take(api.POST('/api/v1/source/paste', { body: { text: text.value, store: store.value } }))
    const look = async () => {
      job.value = await take(api.GET('/api/v1/jobs/{number}', { params: { path: { number: started.job } } })).catch(() => job.value)
      if (running.value || !job.value) timer = setTimeout(look, 300)
      else if (job.value.state === 'done') {
        void askAgain(await tellDone(job.value.message))
      } else error.value = job.value.message
    }
    await look()
  } catch (problem) {
    error.value = wordsOf(problem)
  }
}
function again() {
  text.value = (result.value?.failed ?? []).map((one) => one.text).join('\n')
  job.value = null
}
const stop = () => job.value && void api.POST('/api/v1/jobs/{number}/stop', { params: { path: { number: job.value.id } } })
onBeforeUnmount(() => clearTimeout(timer))
</script>

<template>
  <Modal
    open
    wide
    title="Import by links or numbers"
    message="One a line. The supplier is told by the link or the number; only your own suppliers are ever asked."
    @close="emit('close')"
  >
    <template v-if="!job">
      <label class="mb-3 flex items-center gap-2"
        ><span class="text-soft">Prepare them for</span
        ><select v-model="store" class="field w-auto!">
          <option v-for="one in stores" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select></label
      >
      <textarea
        v-model="text"
        class="field code h-56! resize-none py-2"
        aria-label="Links or numbers, one a line"
        placeholder="NT-HEA-0012&#10;https://…/retail/p/SR-118154"
        spellcheck="false"
      />
    </template>
    <template v-else>
      <div v-if="running" aria-live="polite">
        <p class="mb-2">{{ count(job.done) }} of {{ count(job.total) }} lines</p>
        <span class="block h-2 overflow-hidden rounded bg-rule-2"
          ><span class="block h-full bg-pine" :style="{ width: `${(100 * job.done) / Math.max(job.total, 1)}%` }"
        /></span>
        <p class="mt-2 text-soft">You can close this; it goes on, and its progress is in the bar at the bottom.</p>
      </div>
      <template v-if="result">
        <p class="mb-3">
          <b class="text-pine">{{ plural(result.counts.made, 'listing') }} prepared</b>, each with its lane open<template
            v-if="result.counts.same"
            >; {{ result.counts.same }} there already</template
          ><template v-if="result.failed.length"
            >; <b class="text-brick">{{ plural(result.failed.length, 'line') }} could not be used</b></template
          >
        </p>
        <details v-for="[reason, rows] in groups" :key="reason" class="border-t border-rule-2 py-1.5" :open="groups.length === 1">
          <summary class="cursor-pointer">
            <b>{{ rows.length }}</b> {{ reason }}
          </summary>
          <p v-for="one in rows.slice(0, 50)" :key="one.line" class="grid grid-cols-[56px_1fr] pl-4">
            <span class="text-soft">line {{ one.line }}</span
            ><span class="code truncate">{{ one.text }}</span>
          </p>
          <p v-if="rows.length > 50" class="pl-4 text-soft">and {{ rows.length - 50 }} more</p>
        </details>
      </template>
    </template>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn v-if="running" @click="stop">Stop</Btn><Btn v-if="result?.failed.length" @click="again">Put the failed lines back</Btn
      ><Btn @click="emit('close')">Close</Btn
      ><Btn v-if="!job" kind="main" :disabled="!lines" @click="bring">Import {{ plural(lines, 'line') }}</Btn></template
    >
  </Modal>
</template>
