<script setup lang="ts">
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import Filter from '@/parts/Filter.vue'
import LaneGlyph from '@/parts/LaneGlyph.vue'
import Pills from '@/parts/Pills.vue'
import SheetIn from '@/parts/SheetIn.vue'
import SheetOut from '@/parts/SheetOut.vue'
import Tag from '@/parts/Tag.vue'
import WhyBench from '@/parts/WhyBench.vue'
import { useAsk } from '@/parts/ask'
import { marginOf, money, number, percent } from '@/parts/format'

type Row = Schema<'ListingRow'>
const { ask, set, sort, text, sheet } = useAsk(
  () => (text('show') === 'limit' ? 'outcome:1,2,3' : text('show') ? `state:${text('show')}` : ''),
  () => ({ sort: 'sku', down: false }),
)
const columns: Column[] = [
  { key: 'sku', label: 'Listing', sort: 'title' },
  { key: 'state', label: 'State', width: '88px' },
  { key: 'supplier', label: 'Lane', width: '130px', wide: true },
  { key: 'price', label: 'Price', right: true, width: '76px' },
  { key: 'landed', label: 'Landed cost', right: true, width: '90px' },
  { key: 'profit', label: 'Profit', right: true, width: '76px' },
  { key: 'margin', label: 'Margin', right: true, sort: false, width: '72px', wide: true },
  { key: 'quantity', label: 'Shows', right: true, width: '62px' },
]
const show = [
  { key: '', label: 'All' },
  { key: 'live', label: 'On sale' },
  { key: 'paused', label: 'Paused' },
  { key: 'limit', label: 'Against a limit' },
]
const active = ref<number | null>(null)
const chosen = ref<number[]>([])
const table = ref<{ clear: () => void } | null>(null)
const bring = ref<'listings' | 'prices' | null>(null)
const WORDS: Record<string, string> = { stock: 'nothing left', hold: 'would lose', hand: 'by hand' }
const onSale = (on: boolean) =>
  act(() => take(api.POST('/api/v1/prices/listings/on-sale', { body: { listings: chosen.value, on, reason: '' } }))).then(() =>
    table.value?.clear(),
  )
useKeys('Listings', [{ key: 'escape', message: 'close the bench', run: () => (active.value = null) }])
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)_372px] overflow-hidden">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5 pt-3">
      <h1 class="sr-only">Listings</h1>
      <div class="flex items-center gap-2">
        <Pills :options="show" :chosen="text('show')" label="Which listings" @choose="set({ show: $event })" /><span class="ml-auto" />
        <template v-if="chosen.length"
          ><span class="text-soft">{{ chosen.length }} chosen</span><Btn small @click="onSale(false)">Take off sale</Btn
          ><Btn small @click="onSale(true)">Put on sale</Btn></template
        >
        <Filter :words="ask.words" label="SKU or title" @change="set({ words: $event })" /><Btn @click="bring = 'listings'"
          >Import listings</Btn
        ><Btn @click="bring = 'prices'">Price sheet</Btn><SheetOut :csv="sheet('listings', 'csv')" :xlsx="sheet('listings', 'xlsx')" />
      </div>
      <DataTable
        ref="table"
        v-model:active="active"
        :path="LISTS.listings"
        name="Listings"
        :columns="columns"
        :ask="ask"
        choose
        empty="No listing fits"
        :empty-message="text('show') ? 'None stands so now; look at all of them.' : 'Connect a store, or bring a listings sheet in.'"
        @sort="sort"
        @chosen="chosen = $event"
      >
        <template #sku="{ row }: { row: Row }"
          ><span class="block truncate font-semibold" :title="row.title">{{ row.title }}</span
          ><span class="cell-2 block"
            ><span class="code">{{ row.sku }}</span> {{ row.store }}</span
          ></template
        >
        <template #state="{ row }: { row: Row }"
          ><Tag :tone="row.state === 'live' ? 'good' : row.paused_by === 'hold' ? 'waits' : 'plain'">{{
            row.state === 'live' ? 'on sale' : row.state === 'paused' ? (WORDS[row.paused_by] ?? 'paused') : row.state
          }}</Tag></template
        >
        <template #supplier="{ row }: { row: Row }"
          ><span v-if="row.lane_state" class="block overflow-hidden"
            ><LaneGlyph :state="row.lane_state" class="block!" /><span class="cell-2 block">{{ row.supplier }}</span></span
          ><RouterLink v-else :to="`/lanes?sku=${row.sku_id}`" class="font-semibold text-slate hover:underline" @click.stop
            >open a lane</RouterLink
          ></template
        >
        <template #price="{ row }: { row: Row }"
          ><b>{{ money(row.price) }}</b
          ><span v-if="row.hand_price" class="block text-2xs text-slate">by hand</span></template
        >
        <template #quantity="{ row }: { row: Row }">{{ row.state === 'paused' || row.state === 'ended' ? '–' : row.quantity }}</template>
        <template #landed="{ row }: { row: Row }">{{ money(row.landed) }}</template>
        <template #profit="{ row }: { row: Row }"
          ><span :class="row.profit && number(row.profit) < 0 ? 'font-bold text-brick' : ''">{{ money(row.profit) }}</span></template
        >
        <template #margin="{ row }: { row: Row }">{{ percent(marginOf(row.profit, row.net)) }}</template>
      </DataTable>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="Why this price">
      <WhyBench :listing="active" />
    </aside>
    <SheetIn
      v-if="bring"
      open
      :sheet="bring"
      :title="bring === 'prices' ? 'Prices by hand, least prices and ceilings from a sheet' : 'Import listings'"
      @close="bring = null"
    />
  </div>
</template>
