<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import { useKeys } from '@/app/keys'
import { limited, may } from '@/app/may'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import Filter from '@/parts/Filter.vue'
import Pills from '@/parts/Pills.vue'
import SheetIn from '@/parts/SheetIn.vue'
import SheetOut from '@/parts/SheetOut.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { useAsk } from '@/parts/ask'
import { dateOf, money } from '@/parts/format'
import CaseBench from './CaseBench.vue'
import Cases from './Cases.vue'
import Milepost from './Milepost.vue'
import Numbers from './Numbers.vue'
import ParcelBench from './ParcelBench.vue'
import { transitStandingQuery } from './cases'

type Row = Schema<'ParcelRow'>
const STATES: Record<string, string> = { road: 'state:label,moving', trouble: '', arrived: 'state:delivered' }
/** Whoever is limited to some stores or suppliers has their cases here, and not the parcels of all. */
const view = computed(() => (limited.value ? 'cases' : text('show') || 'road'))
const { ask, set, sort, text, sheet } = useAsk(
  () => (text('words') && !text('show') ? '' : (STATES[text('show') || 'road'] ?? '')),
  () => ({
    // What is due first stands first; what arrived last does, too.
    sort: { arrived: 'ended_at', trouble: '' }[text('show')] ?? 'promised_by',
    down: text('show') === 'arrived',
  }),
)
const { data: standing } = useQuery({
  ...transitStandingQuery(),
  enabled: () => !limited.value,
})
const pills = computed(() => {
  const s = standing.value
  return [
    { key: 'road', label: 'On the road', count: (s?.states.label ?? 0) + (s?.states.moving ?? 0) },
    { key: 'trouble', label: 'In trouble, dearest first', count: s?.late ?? 0, waits: true },
    { key: 'numbers', label: 'Wrong numbers', count: s?.wrong_numbers ?? 0, waits: true },
    { key: 'cases', label: 'Cases', count: s?.cases ?? 0 },
    { key: 'arrived', label: 'Arrived', count: s?.states.delivered ?? 0 },
  ]
})
/** On a narrow screen the mark on the way says enough of the promise; its day stands in the bench. */
const wide = useMediaQuery('(min-width: 1200px)')
const columns = computed<Column[]>(() => [
  { key: 'number', label: 'Parcel', width: wide.value ? '168px' : '150px' },
  { key: 'order', label: 'Order and buyer', width: '22%' },
  { key: 'way', label: 'Way and promise', sort: 'made_at' },
  { key: 'last_word', label: 'Last word', width: wide.value ? '21%' : '25%' },
  ...(wide.value ? [{ key: 'promised_by', label: 'Promised', right: true, width: '92px' }] : []),
  ...(view.value === 'trouble' ? [{ key: 'at_risk', label: 'At risk', sort: false as const, right: true, width: '84px' }] : []),
])
const active = ref<number | null>(null)
const theCase = ref(0)
const bring = ref(false)
const askNow = () => act(() => take(api.POST('/api/v1/transit/carriers/ask', { body: {} })))
useKeys('Transit', [
  { key: 'w', message: 'ask the carriers now', run: () => void askNow() },
  { key: 'escape', message: 'close the bench', run: () => (active.value = null) },
])
const edge = (row: Row) => (row.trouble ? 'bg-amber' : '')
</script>

<template>
  <div class="grid h-full grid-cols-[minmax(0,1fr)_300px] xl:grid-cols-[minmax(0,1fr)_340px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5">
      <div class="flex items-center gap-3">
        <h1>{{ view === 'cases' ? 'Cases' : 'Parcels' }}</h1>
        <span class="ml-auto" /><Filter
          v-if="!['numbers', 'cases'].includes(view)"
          :words="ask.words"
          label="Number, order or buyer"
          @change="set({ words: $event })"
        /><template v-if="!limited"
          ><Btn v-if="may('claim')" @click="askNow">Ask carriers now</Btn><Btn v-if="may('order')" @click="bring = true">Import numbers</Btn
          ><SheetOut v-if="view !== 'cases'" :csv="sheet('parcels', 'csv')" :xlsx="sheet('parcels', 'xlsx')" /></template
        ><SheetOut v-if="view === 'cases'" csv="api/v1/claims/sheet.csv" xlsx="api/v1/claims/sheet.xlsx" />
      </div>
      <Pills v-if="!limited" :pending="!standing" :options="pills" :chosen="view" label="Which parcels" @choose="set({ show: $event })" />
      <Numbers v-if="view === 'numbers'" />
      <Cases v-else-if="view === 'cases'" @chosen="theCase = $event" />
      <DataTable
        v-else
        v-model:active="active"
        :path="view === 'trouble' ? LISTS.troubled : LISTS.parcels"
        name="Parcels"
        :columns="columns"
        :ask="ask"
        first
        :edge="edge"
        empty="No parcel is here"
        empty-message="A parcel appears as soon as a supplier gives a number that is right."
        @sort="sort"
      >
        <template #number="{ row }: { row: Row }"
          ><span class="code block">{{ row.number }}</span
          ><span class="cell-2 block">{{ row.carrier }}</span></template
        >
        <template #order="{ row }: { row: Row }"
          ><span class="block truncate"
            ><span class="code">{{ row.order }}</span
            >{{ row.orders > 1 ? ` and ${row.orders - 1} more` : '' }} {{ row.buyer }}</span
          ><span class="cell-2 block">{{ row.country }} · {{ row.store }}</span></template
        >
        <template #way="{ row }: { row: Row }"><Milepost :parcel="row" /></template>
        <template #last_word="{ row }: { row: Row }"
          ><span class="block truncate" :title="row.last_word">{{ row.last_word }}</span
          ><Tag v-if="row.trouble" class="max-w-full truncate align-bottom" :title="row.trouble" :tone="row.asked ? 'plain' : 'waits'">{{
            row.trouble
          }}</Tag
          ><span v-if="row.asked" class="ml-1 text-xs text-soft">asked <When :at="row.asked" /></span
          ><Tag v-if="row.ended_by === 'policy'" tone="plain">taken as arrived</Tag></template
        >
        <template #at_risk="{ row }: { row: Row }"
          ><b>{{ money(row.at_risk) }}</b></template
        >
        <template #promised_by="{ row }: { row: Row }">{{ row.promised_by ? dateOf(row.promised_by) : '–' }}</template>
      </DataTable>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" :aria-label="view === 'cases' ? 'The case' : 'The parcel'">
      <template v-if="view === 'cases'"
        ><CaseBench v-if="theCase" :key="theCase" :claim="theCase" />
        <p v-else class="text-soft">Choose a case to see both sides of it.</p></template
      >
      <ParcelBench v-else-if="active" :key="active" :parcel="active" />
      <p v-else class="text-soft">Choose a parcel to see where it was and what was told to whom.</p>
    </aside>
    <SheetIn :open="bring" sheet="tracking" title="Import tracking numbers" @close="bring = false" />
  </div>
</template>
