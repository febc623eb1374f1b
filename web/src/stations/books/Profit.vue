<script setup lang="ts">
/** Profit by anything, as it happens; beside it the fall from sales to profit, or the entries behind a figure. */
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useKeys } from '@/app/keys'
import Pills from '@/parts/Pills.vue'
import SheetOut from '@/parts/SheetOut.vue'
import Sight from '@/parts/Sight.vue'
import { amountOf } from '@/parts/format'
import Cross from './Cross.vue'
import DayLine from './DayLine.vue'
import EntriesBench from './EntriesBench.vue'
import PeriodBar from './PeriodBar.vue'
import ProfitTable from './ProfitTable.vue'
import SalesToProfit from './SalesToProfit.vue'
import { BYS, COLUMNS, daysQuery, useBooks, type By, type Number } from './books'

const { set, text, by, query, days, only, hidden } = useBooks()
const asked = useQuery(computed(() => ({ ...daysQuery({ ...days.value, only: only.value }), placeholderData: keepPreviousData })))
const { data } = asked
const opened = ref<Number | null>(null)
const across = computed(() =>
  BYS.some((one) => one.key === text('across')) && text('across') !== by.value ? (text('across') as By) : null,
)
const FIGURES: [string, string][] = [
  ['profit', 'Profit'],
  ['net', 'Net revenue'],
  ['fees', 'Fees'],
  ['goods', 'Goods'],
  ['sending', 'Sending'],
  ['refunds', 'Refunds'],
]
const sheet = (form: string) =>
  `api/v1/books/profit.${form}?${new URLSearchParams({ ...query.value, by: by.value, sort: text('sort') || 'profit', down: String(text('sort') ? text('down') === '1' : true), hide: text('hide') })}`
const lines = (form: string) => `api/v1/books/books.${form}?${new URLSearchParams(days.value)}`
const total = computed(() => {
  const sum = (data.value?.days ?? []).reduce((all, one) => all + Math.round(Number(one.profit.amount) * 1000), 0)
  const one = data.value?.days[0]?.profit
  return one ? amountOf(sum / 1000, one.currency) : ''
})
function show(key: string, on: boolean) {
  const next = new Set(hidden.value)
  if (on) next.delete(key)
  else next.add(key)
  set({ hide: [...next].join(',') || undefined })
}
useKeys('Profit', [{ key: 'escape', message: 'close the entries', run: () => (opened.value = null) }])
</script>

<template>
  <div class="grid h-full grid-cols-[minmax(0,1fr)_300px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 overflow-auto p-4.5">
      <div class="flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1>{{ total ? `${total} profit` : 'Profit' }}</h1>
        <span class="ml-auto" /><PeriodBar /><SheetOut label="Export" :csv="sheet('csv')" :xlsx="sheet('xlsx')" /><SheetOut
          label="Export lines"
          :csv="lines('csv')"
          :xlsx="lines('xlsx')"
        />
      </div>
      <Sight :of="asked" :lines="3"><DayLine :of="data!" /></Sight>
      <div class="flex flex-wrap items-center gap-2">
        <Pills :options="BYS" :chosen="by" label="Rows by" @choose="set({ by: $event, sort: undefined, down: undefined })" />
        <select
          class="field ml-auto w-36!"
          aria-label="Columns by"
          :value="across ?? ''"
          @change="set({ across: ($event.target as HTMLSelectElement).value || undefined })"
        >
          <option value="">columns: figures</option>
          <option v-for="one in BYS.filter((one) => one.key !== by && one.key !== 'order')" :key="one.key" :value="one.key">
            columns: {{ one.label.toLowerCase() === 'sku' ? 'SKU' : one.label.toLowerCase() }}
          </option>
        </select>
        <select
          v-if="across"
          class="field w-32!"
          aria-label="Which figure"
          :value="text('figure') || 'profit'"
          @change="set({ figure: ($event.target as HTMLSelectElement).value })"
        >
          <option v-for="[key, name] in FIGURES" :key="key" :value="key">{{ name }}</option>
        </select>
        <details v-if="!across" class="relative">
          <summary class="flex h-8 cursor-pointer items-center rounded border border-rule bg-sheet px-3 font-semibold hover:bg-shade">
            Columns
          </summary>
          <div class="absolute right-0 z-20 mt-1 w-44 rounded border border-rule bg-sheet p-2 shadow-md">
            <label class="flex h-7 items-center gap-2"
              ><input
                type="checkbox"
                :checked="!!text('planned')"
                @change="set({ planned: ($event.target as HTMLInputElement).checked ? '1' : undefined })"
              />Planned, beside profit</label
            >
            <label v-for="[key, name] in COLUMNS" :key="key" class="flex h-7 items-center gap-2"
              ><input type="checkbox" :checked="!hidden.has(key)" @change="show(key, ($event.target as HTMLInputElement).checked)" />{{
                name
              }}</label
            >
          </div>
        </details>
      </div>
      <Cross v-if="across" :across="across" :figure="text('figure') || 'profit'" class="shrink-0 overflow-x-auto" />
      <ProfitTable v-else short long-names :chosen="opened" class="shrink-0 overflow-x-auto" @open="opened = $event" />
    </section>
    <aside
      class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5"
      :aria-label="opened ? 'The entries behind it' : 'From sales to profit'"
    >
      <EntriesBench v-if="opened" :of="opened" />
      <SalesToProfit v-else />
    </aside>
  </div>
</template>
