<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import Filter from '@/parts/Filter.vue'
import Pills from '@/parts/Pills.vue'
import SheetIn from '@/parts/SheetIn.vue'
import SheetOut from '@/parts/SheetOut.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import WhyBench from '@/parts/WhyBench.vue'
import { useAsk } from '@/parts/ask'
import { money } from '@/parts/format'
import Calls from './Calls.vue'
import Differs from './Differs.vue'
import Doubts from './Doubts.vue'
import Groups from './Groups.vue'
import Strips from './Strips.vue'
import SweepRecord from './SweepRecord.vue'
import { tallyQuery } from './queries'

type Row = Schema<'ResponseOut'>
const FILTERS: Record<string, string> = {
  many: 'outcome:4;state:waits',
  waits: 'state:waits',
  reprice: 'kind:reprice',
  stock: 'kind:quantity',
  pause: 'kind:pause',
  resume: 'kind:resume',
  keep: 'state:kept',
}
const { ask, set, sort, text, sheet } = useAsk(() => {
  const parts = [FILTERS[text('state')] ?? '']
  for (const name of ['sweep', 'act', 'kind', 'set_by', 'outcome', 'item', 'listing']) if (text(name)) parts.push(`${name}:${text(name)}`)
  return parts.filter(Boolean).join(';')
})
const { data: tally } = useQuery(tallyQuery())
const pills = computed(() => {
  const t = tally.value
  const all = Object.values(t?.states ?? {}).reduce((a, b) => a + b, 0)
  return [
    { key: '', label: 'All', count: all },
    { key: 'waits', label: 'Waits for you', count: t?.states.waits ?? 0, waits: true },
    { key: 'reprice', label: 'Price', count: t?.kinds.reprice ?? 0 },
    { key: 'stock', label: 'Stock', count: t?.kinds.quantity ?? 0 },
    { key: 'pause', label: 'Paused', count: t?.kinds.pause ?? 0 },
    { key: 'resume', label: 'Resumed', count: t?.kinds.resume ?? 0 },
    { key: 'keep', label: 'Unchanged', count: t?.states.kept ?? 0 },
    { key: 'doubted', label: 'Doubted', count: t?.doubted ?? 0, waits: true },
    { key: 'differs', label: 'Stores differ', count: t?.differs ?? 0, waits: true },
  ]
})
const VIEWS = [
  { key: '', label: 'One by one' },
  { key: 'groups', label: 'By cause' },
  { key: 'calls', label: 'Calls plan' },
]
const view = computed(() => (['groups', 'calls'].includes(text('state')) ? text('state') : ''))
const columns: Column[] = [
  { key: 'at', label: 'When', width: '64px' },
  { key: 'title', label: 'Listing', width: '28%' },
  { key: 'item', label: 'Supplier item', width: '16%' },
  { key: 'did', label: 'What Amber Lane did', sort: 'kind' },
  { key: 'state', label: 'State', width: '78px' },
]
const NARROW = ['sweep', 'act', 'kind', 'set_by', 'outcome', 'item', 'listing']
const only = (query: Record<string, string>) => set({ ...Object.fromEntries(NARROW.map((name) => [name, undefined])), ...query })
/** These views have no rows with a price to explain. */
const wide = computed(() => ['doubted', 'differs', 'groups', 'calls'].includes(text('state')))
const active = ref<number | null>(null)
const chosen = ref<number[]>([])
const table = ref<{ clear: () => void } | null>(null)
const bring = ref(false)

const STATE_TONE: Record<string, 'waits' | 'good' | 'plain' | 'info'> = { waits: 'waits', sent: 'good', kept: 'plain', undone: 'info' }
function did(row: Row): string {
  const price = `${money(row.old_price)} → ${money(row.new_price)}`
  if (row.kind === 'reprice') return `Reprice ${price}`
  if (row.kind === 'quantity') return `Show ${row.new_quantity}, was ${row.old_quantity}`
  if (row.kind === 'pause') return row.new_quantity === 0 ? 'Pause, nothing left' : 'Pause, it would lose money'
  if (row.kind === 'resume') return `Resume with ${row.new_quantity} at ${money(row.new_price)}`
  if (row.kind === 'hold')
    return row.outcome === 3
      ? 'No price meets your limits'
      : row.set_by === 4
        ? 'The ceiling stands in the way'
        : row.outcome === 4
          ? 'Too many prices move at once'
          : 'The largest step stands in the way'
  if (row.kind === 'end') return 'End, nothing left'
  return `Keep ${money(row.new_price)}`
}
const settle = (approve: boolean) =>
  act(() => take(api.POST('/api/v1/watch/responses/settle', { body: { responses: chosen.value, approve } }))).then(() =>
    table.value?.clear(),
  )
const undo = () =>
  act(() => take(api.POST('/api/v1/watch/responses/undo', { body: { responses: chosen.value } }))).then(() => table.value?.clear())
const undoSweep = (row: Row) =>
  row.state === 'sent' && act(() => take(api.POST('/api/v1/watch/responses/undo', { body: { responses: [row.id] } })))
const sweepNow = () => act(() => take(api.POST('/api/v1/watch/suppliers/{supplier}/sweep', { params: { path: { supplier: 1 } } })))
useKeys('Watch', [
  { key: 'w', message: 'sweep now', run: () => void sweepNow() },
  {
    key: 'u',
    message: 'take the row back',
    run: () =>
      void (chosen.value.length
        ? undo()
        : active.value && act(() => take(api.POST('/api/v1/watch/responses/undo', { body: { responses: [active.value!] } })))),
  },
  { key: 'escape', message: 'close the bench', run: () => (active.value = null) },
])
const edge = (row: Row) => (row.state === 'waits' ? 'bg-amber' : '')
</script>

<template>
  <div class="grid h-full" :class="wide ? 'grid-cols-1' : 'grid-cols-[minmax(0,1fr)_372px]'">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5">
      <div class="flex items-baseline gap-3">
        <h1 class="whitespace-nowrap">Supply, last 15 hours</h1>
        <p class="truncate text-soft max-[1180px]:hidden">each mark a sweep, its height the changes found</p>
        <span class="ml-auto" /><Pills
          class="shrink-0"
          :options="VIEWS"
          :chosen="view"
          label="Views of Watch"
          @choose="only({ state: $event })"
        />
        <Btn small class="shrink-0" @click="bring = true">Import items</Btn>
      </div>
      <Strips />
      <div v-if="!view" class="flex items-center gap-2">
        <Pills :pending="!tally" :options="pills" :chosen="text('state')" label="Which decisions" @choose="only({ state: $event })" />
      </div>
      <Doubts v-if="text('state') === 'doubted'" />
      <Differs v-else-if="text('state') === 'differs'" />
      <Calls v-else-if="text('state') === 'calls'" />
      <Groups v-else-if="text('state') === 'groups'" @see="only($event)" />
      <template v-else>
        <div class="flex items-center gap-2">
          <Filter :words="ask.words" label="SKU, title or item" @change="set({ words: $event })" />
          <Btn v-if="NARROW.some((name) => text(name))" small kind="link" @click="only({ state: text('state') })">Show all of them</Btn>
          <span class="ml-auto" />
          <template v-if="chosen.length"
            ><span class="text-soft">{{ chosen.length }} chosen</span><Btn small @click="settle(true)">Take the best price</Btn
            ><Btn small @click="settle(false)">Leave as they are</Btn><Btn small @click="undo">Undo</Btn></template
          >
          <SheetOut :csv="sheet('responses', 'csv')" :xlsx="sheet('responses', 'xlsx')" />
        </div>
        <SweepRecord v-if="text('sweep')" :sweep="Number(text('sweep'))" />
        <DataTable
          ref="table"
          v-model:active="active"
          :path="LISTS.responses"
          name="Responses"
          :columns="columns"
          :ask="ask"
          choose
          first
          :edge="edge"
          empty="Nothing was done here yet"
          empty-message="After the next sweep that finds a change, what was done about it stands here, with its reason."
          @sort="sort"
          @chosen="chosen = $event"
          @act="undoSweep"
        >
          <template #at="{ row }: { row: Row }"
            ><span class="font-mono text-xs text-soft"><When :at="row.at" clock /></span
          ></template>
          <template #title="{ row }: { row: Row }"
            ><span class="block truncate font-semibold" :title="row.title">{{ row.title }}</span
            ><span class="cell-2 block"
              ><span class="code">{{ row.sku }}</span></span
            ></template
          >
          <template #item="{ row }: { row: Row }"
            ><RouterLink v-if="row.item" class="code block truncate hover:underline" :to="`/item/${row.item_id}`" @click.stop>{{
              row.item
            }}</RouterLink
            ><span v-else class="block truncate text-soft" :title="row.cause ?? ''">{{
              row.cause || (row.sweep ? '–' : 'stock shared with a sale')
            }}</span></template
          >
          <template #did="{ row }: { row: Row }"
            ><span class="block truncate">{{ did(row) }}</span
            ><span class="cell-2 block">{{ row.store }}</span></template
          >
          <template #state="{ row }: { row: Row }"
            ><Tag :tone="STATE_TONE[row.state]">{{ row.state }}</Tag></template
          >
        </DataTable>
      </template>
    </section>
    <aside v-if="!wide" class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="Why">
      <WhyBench :response="active" />
    </aside>
    <SheetIn :open="bring" sheet="items" title="Import supplier items" @close="bring = false" />
  </div>
</template>
