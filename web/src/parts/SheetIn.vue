<script setup lang="ts">
/** Bring a sheet in: template, check with what would change, then take the good rows; the bad come back as a sheet. */
import { computed, onBeforeUnmount, ref } from 'vue'
import { api, take, upload as send, type Schema } from '@/api/client'
import { askAgain } from '@/app/live'
import { tellDone, wordsOf } from '@/app/messages'
import Btn from './Btn.vue'
import Modal from './Modal.vue'
import SheetMap from './SheetMap.vue'
import { plural, count } from './format'

const props = defineProps<{
  open: boolean
  sheet:
    | 'lanes'
    | 'orders'
    | 'tracking'
    | 'answers'
    | 'claim_answers'
    | 'listings'
    | 'items'
    | 'prices'
    | 'rates'
    | 'settlements'
    | 'statements'
    | 'overheads'
    | 'print_lanes'
  title: string
  /** What is the same in every row, such as the store that the sheet is of. */
  always?: Record<string, string>
}>()
const emit = defineEmits<{ close: [] }>()

interface Result {
  message: string
  counts: Record<string, number>
  changes: { kind: string; message: string }[]
  unknown: string[]
  note?: string
  bad: { row: Record<string, string>; reason: string }[]
}
/** Sheets that can be taken out as they stand, in the columns in which they are brought in. */
const OURS = ['lanes', 'listings', 'prices', 'rates']
const job = ref<Schema<'JobOut'> | null>(null)
const token = ref('')
const seen = ref<Schema<'SheetSeen'> | null>(null)
const stage = ref<'choose' | 'naming' | 'checking' | 'checked' | 'taking' | 'taken'>('choose')
const error = ref('')
let timer: ReturnType<typeof setTimeout> | undefined
const result = computed(() => job.value?.result as Result | null)
const good = computed(() =>
  result.value ? (result.value.counts.new ?? 0) + (result.value.counts.changed ?? 0) + (result.value.counts.wrong ?? 0) : 0,
)

async function upload(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  error.value = ''
  try {
    seen.value = await send<Schema<'SheetSeen'>>(`/api/v1/sheets/${props.sheet}/look`, file)
    token.value = seen.value.token
    const more = Object.entries(props.always ?? {}).filter(([name]) => !seen.value!.columns[name])
    if (more.length) {
      const columns = { ...seen.value.columns, ...Object.fromEntries(more.map(([name, value]) => [name, `= ${value}`])) }
      const path = { name: props.sheet, token: token.value }
      const body = { columns, tab: seen.value.tab, encoding: seen.value.encoding }
      const { doubts, plain } = seen.value
      const found = await take(api.POST('/api/v1/sheets/{name}/look/{token}', { params: { path }, body }))
      seen.value = { ...found, doubts, plain: plain || (found.plain && !Object.keys(doubts).length) }
    }
    if (seen.value.plain) await check()
    else stage.value = 'naming'
  } catch (problem) {
    error.value = wordsOf(problem)
  }
}
const how = computed(() => ({ columns: seen.value!.columns, tab: seen.value!.tab, encoding: seen.value!.encoding }))
async function check() {
  error.value = ''
  try {
    const path = { name: props.sheet, token: token.value }
    const started = await take(
      api.POST('/api/v1/sheets/{name}/check/{token}', { params: { path }, body: { ...how.value, remember: !seen.value!.plain } }),
    )
    follow(started.job, 'checking', 'checked')
  } catch (problem) {
    error.value = wordsOf(problem)
  }
}
function follow(number: number, during: 'checking' | 'taking', then: 'checked' | 'taken') {
  stage.value = during
  const look = async () => {
    try {
      job.value = await take(api.GET('/api/v1/jobs/{number}', { params: { path: { number } } }))
    } catch (problem) {
      error.value = wordsOf(problem)
    }
    if (job.value?.state === 'done') {
      stage.value = then
      if (then === 'taken') {
        void askAgain(await tellDone(`Sheet taken in: ${job.value.message}`))
      }
    } else if (job.value?.state === 'failed' || job.value?.state === 'stopped') {
      error.value = job.value.message
      stage.value = seen.value && !seen.value.plain ? 'naming' : 'choose'
    } else timer = setTimeout(look, 300)
  }
  void look()
}
async function takeIn() {
  try {
    const started = await take(
      api.POST('/api/v1/sheets/{name}/take', { params: { path: { name: props.sheet } }, body: { token: token.value, how: how.value } }),
    )
    follow(started.job, 'taking', 'taken')
  } catch (problem) {
    error.value = wordsOf(problem)
  }
}
const stop = () => job.value && void api.POST('/api/v1/jobs/{number}/stop', { params: { path: { number: job.value.id } } })
function close() {
  clearTimeout(timer)
  stage.value = 'choose'
  seen.value = null
  job.value = null
  error.value = ''
  emit('close')
}
onBeforeUnmount(() => clearTimeout(timer))
</script>

<template>
  <Modal
    :open="open"
    :title="title"
    message="CSV or XLSX as you have it, also in a zip. You see how it is read, and nothing changes until you say so."
    wide
    @close="close"
  >
    <p v-if="error" role="alert" class="mb-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <div v-if="stage === 'choose'" class="flex items-center gap-4">
      <input type="file" accept=".csv,.xlsx,.xlsm,.txt,.tsv,.zip" aria-label="The sheet" class="text-sm" @change="upload" />
      <span class="text-soft"
        >Template: <a class="font-semibold text-slate underline" :href="`api/v1/sheets/${sheet}/template.csv`" download>CSV</a>,
        <a class="font-semibold text-slate underline" :href="`api/v1/sheets/${sheet}/template.xlsx`" download>XLSX</a>
        <template v-if="OURS.includes(sheet)"
          >; as it stands: <a class="font-semibold text-slate underline" :href="`api/v1/sheets/${sheet}/ours.csv`" download>CSV</a>,
          <a class="font-semibold text-slate underline" :href="`api/v1/sheets/${sheet}/ours.xlsx`" download>XLSX</a></template
        ></span
      >
    </div>
    <SheetMap v-else-if="stage === 'naming' && seen" :sheet="sheet" :seen="seen" @now="seen = $event" />
    <div v-else-if="stage === 'checking' || stage === 'taking'" role="status">
      <p>{{ stage === 'checking' ? 'Checking' : 'Taking in' }} {{ count(job?.done ?? 0) }} of {{ job ? count(job.total) : '…' }} rows</p>
      <progress aria-label="How far it is" class="mt-2 h-2 w-full accent-pine" :max="job?.total || 1" :value="job?.done ?? 0" />
    </div>
    <div v-else-if="result">
      <p class="text-base">
        <b>{{ result.counts.new }}</b> new, <b>{{ result.counts.changed }}</b> changed, <b>{{ result.counts.same }}</b> the same,
        <b :class="result.counts.bad ? 'text-brick' : ''">{{ result.counts.bad }}</b> cannot be taken<template v-if="result.counts.wrong"
          >, <b class="text-brick">{{ result.counts.wrong }}</b> belong to other orders and go under the wrong numbers</template
        >
      </p>
      <p v-if="result.note" class="mt-1 text-amber-ink">{{ result.note }}</p>
      <p v-if="result.unknown.length" class="mt-1 text-soft">Columns that are not used: {{ result.unknown.join(', ') }}</p>
      <div v-if="result.bad.length" class="mt-3">
        <p class="font-semibold">
          Rows that cannot be taken
          <a class="ml-2 text-slate underline" :href="`api/v1/sheets/${sheet}/bad/${token}.csv`" download
            >all of them with their reasons, as a sheet</a
          >
        </p>
        <ul class="mt-1 max-h-36 overflow-auto">
          <li v-for="(one, i) in result.bad" :key="i" class="truncate py-0.5">
            <span class="text-brick">{{ one.reason }}</span>
            <span class="ml-1 text-soft">{{ Object.values(one.row).filter(Boolean).join(' · ') }}</span>
          </li>
        </ul>
      </div>
      <ul v-if="result.changes.length" class="mt-3 max-h-48 overflow-auto border-t border-rule-2 pt-2">
        <li v-for="(one, i) in result.changes" :key="i" class="truncate py-0.5">
          <span class="inline-block w-16 text-soft">{{ one.kind }}</span>{{ one.message }}
        </li>
      </ul>
    </div>
    <template #acts>
      <Btn v-if="stage === 'checking' || stage === 'taking'" @click="stop">Stop</Btn>
      <Btn v-if="stage === 'naming'" kind="main" :disabled="!!seen?.missing.length" @click="check">Check the rows</Btn>
      <Btn v-if="stage === 'checked' && seen && !seen.plain" @click="stage = 'naming'">Other columns</Btn>
      <Btn v-if="stage === 'checked'" kind="main" :disabled="!good" @click="takeIn">{{
        good ? `Take ${plural(good, result?.counts.wrong ? 'row' : 'good row')}` : 'Nothing to take'
      }}</Btn>
      <Btn @click="close">{{ stage === 'taken' ? 'Done' : 'Close' }}</Btn>
    </template>
  </Modal>
</template>
