<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import { useKeys } from '@/app/keys'
import { may } from '@/app/may'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import Filter from '@/parts/Filter.vue'
import LaneGlyph from '@/parts/LaneGlyph.vue'
import Pills from '@/parts/Pills.vue'
import SheetOut from '@/parts/SheetOut.vue'
import Tag from '@/parts/Tag.vue'
import { useAsk } from '@/parts/ask'
import { marginOf, money, percent } from '@/parts/format'
import LaneBench from './LaneBench.vue'
import MoveLanes from './MoveLanes.vue'
import { facetsQuery } from '@/stations/source/queries'

type Row = Schema<'LaneRow'>
const emit = defineEmits<{ bring: []; open: [sku: number] }>()
const filters = () =>
  [
    ['state', text('lane')],
    ['supplier', text('by')],
    ['use', text('use')],
    ['kind', text('kind')],
    ['by', text('opened')],
  ]
    .filter(([, value]) => value)
    .map(([key, value]) => `${key}:${value}`)
    .join(';')
const { ask, set, sort, text, sheet } = useAsk(filters, () => ({ sort: 'sku', down: false }))
const { data: facets } = useQuery(facetsQuery())
const active = computed({
  get: () => Number(text('open')) || null,
  set: (now: number | null) => set({ open: now ? String(now) : undefined }),
})
/** With the bench open the item's cost stands there, and the rest has room. */
const columns = computed<Column[]>(() => [
  { key: 'sku', label: 'SKU' },
  { key: 'lane', label: 'Lane', sort: 'supplier' },
  { key: 'item', label: 'Item and units' },
  ...(active.value || !may('see money') ? [] : [{ key: 'cost', label: 'Item cost', width: '92px', right: true }]),
  ...(may('see money')
    ? [
        { key: 'landed', label: 'Landed', width: '80px', right: true },
        { key: 'margin', label: 'Margin', width: '76px', right: true, sort: 'profit' },
      ]
    : []),
  { key: 'stock', label: 'Stock', width: '68px', right: true },
])
const states = [
  { key: '', label: 'All' },
  { key: 'open', label: 'Open' },
  { key: 'new', label: 'New' },
  { key: 'slow', label: 'Slow' },
  { key: 'shut', label: 'Shut' },
]
const chosen = ref<number[]>([])
const moving = ref(false)
const table = ref<{ clear: () => void; rowOf: (id: number) => Row | undefined } | null>(null)
const units = (row: Row) => (row.units_den > 1 ? `${row.units_num}/${row.units_den}` : String(row.units_num))
const ours = 'api/v1/sheets/lanes/ours'
async function bulk(what: 'main' | 'shut' | 'open' | 'close') {
  if (!chosen.value.length) return
  const done = await act(() => take(api.POST('/api/v1/lanes/bulk', { body: { ids: chosen.value, what, reason: '' } })))
  if (done) table.value?.clear()
}
const source = computed(() => {
  const names = new Set(chosen.value.map((id) => table.value?.rowOf(id)?.supplier))
  return names.size === 1 ? (facets.value?.suppliers.find((one) => names.has(one.name))?.id ?? null) : null
})
useKeys('All lanes', [
  { key: 'm', message: 'make the chosen spares main; chosen main lanes swap with their first spare', run: () => void bulk('main') },
  { key: 'x', message: 'shut the chosen ones', run: () => void bulk('shut') },
  { key: 'o', message: 'let the chosen ones be used', run: () => void bulk('open') },
  { key: 'v', message: 'move to another supplier', run: () => (moving.value = true) },
  { key: 'escape', message: 'close the bench', run: () => (active.value = null) },
])
</script>

<template>
  <div class="flex min-h-0 flex-1">
    <section class="flex min-h-0 min-w-0 flex-1 flex-col gap-3 p-4.5 pt-3">
      <h1 class="sr-only">All lanes</h1>
      <div class="flex flex-wrap items-center gap-2.5">
        <Pills :options="states" :chosen="text('lane')" label="Lanes by state" @choose="set({ lane: $event })" />
        <select
          class="field h-7! w-36! py-0! text-xs"
          :value="text('by')"
          aria-label="Supplier"
          @change="set({ by: ($event.target as HTMLSelectElement).value })"
        >
          <option value="">Any supplier</option>
          <option v-for="one in facets?.suppliers ?? []" :key="one.id" :value="String(one.id)">{{ one.name }}</option>
        </select>
        <select
          class="field h-7! w-32! py-0! text-xs"
          :value="text('kind') || (text('use') ? `use${text('use')}` : '')"
          aria-label="Kind of lane"
          @change="
            ((value: string) =>
              set({ use: value.startsWith('use') ? value.slice(3) : undefined, kind: value.startsWith('use') ? undefined : value }))(
              ($event.target as HTMLSelectElement).value,
            )
          "
        >
          <option value="">Main and spares</option>
          <option value="use0">Main lanes</option>
          <option value="use1">First spares</option>
          <option value="kit">Kits</option>
          <option value="replacement">Replacements</option>
        </select>
        <select
          class="field h-7! w-36! py-0! text-xs"
          :value="text('opened')"
          aria-label="Opened by"
          @change="set({ opened: ($event.target as HTMLSelectElement).value })"
        >
          <option value="">Opened by anybody</option>
          <option value="itself">Opened by itself</option>
          <option value="person">Opened by a person</option>
        </select>
        <Filter :words="ask.words" label="SKU, title or item" @change="set({ words: $event })" /><span class="ml-auto" />
        <template v-if="may('see money')"
          ><SheetOut label="Export" :csv="`${ours}.csv`" :xlsx="`${ours}.xlsx`" /><SheetOut
            label="This list"
            :csv="sheet('lanes', 'csv')"
            :xlsx="sheet('lanes', 'xlsx')"
          /><Btn v-if="may('map')" @click="emit('bring')">Import a sheet</Btn></template
        >
      </div>
      <div v-if="chosen.length" class="flex items-center gap-2" role="status">
        <b>{{ chosen.length }} chosen</b><Btn small hint="M" @click="bulk('main')">Make main, or swap</Btn
        ><Btn small hint="X" @click="bulk('shut')">Shut</Btn><Btn small hint="O" @click="bulk('open')">Let be used</Btn
        ><Btn small @click="bulk('close')">Close</Btn><Btn small hint="V" @click="moving = true">Move to another supplier</Btn>
      </div>
      <p v-else class="text-soft">
        Choose lanes with Space to change many at once, or
        <button type="button" class="font-semibold text-slate hover:underline" @click="moving = true">
          move a supplier’s lanes to another</button
        >.
      </p>
      <DataTable
        ref="table"
        v-model:active="active"
        :path="LISTS.lanes"
        name="Lanes"
        :columns="columns"
        :ask="ask"
        choose
        empty="No lane fits"
        empty-message="Open one for a SKU, or bring in a sheet."
        @sort="sort"
        @chosen="chosen = $event"
        @act="emit('open', $event.sku_id)"
      >
        <template #sku="{ row }: { row: Row }"
          ><span class="block truncate" :title="row.title">{{ row.title }}</span
          ><span class="code block truncate text-soft">{{ row.sku }}</span></template
        >
        <template #lane="{ row }: { row: Row }"
          ><span class="flex items-center gap-2"
            ><LaneGlyph :state="row.begun ? row.state : 'shut'" :use="row.use" /><span class="truncate">{{ row.supplier }}</span></span
          ><span class="cell-2 block truncate" :title="row.reason"
            >{{ row.instead ? 'replacement' : row.use ? `spare ${row.use}` : 'main' }}, {{ row.begun ? row.state : 'not begun' }};
            {{ row.origin }}, {{ row.service }}<Tag v-if="row.store" class="ml-1">{{ row.store }}</Tag></span
          ></template
        >
        <template #item="{ row }: { row: Row }"
          ><span class="code block truncate"
            >{{ units(row) }} × {{ row.item }}<template v-if="row.items > 1"> and {{ row.items - 1 }} more</template></span
          ><span class="cell-2 block truncate" :title="row.item_title">{{ row.item_title }}</span></template
        >
        <template #cost="{ row }: { row: Row }">{{ money(row.cost) }}</template>
        <template #landed="{ row }: { row: Row }"
          ><b>{{ money(row.landed) }}</b></template
        >
        <template #margin="{ row }: { row: Row }">{{ percent(marginOf(row.profit, row.net), 0) }}</template>
        <template #stock="{ row }: { row: Row }"
          ><span :class="row.stock === 0 || row.offer === 'gone' ? 'text-brick' : ''">{{
            row.offer === 'gone' ? 'gone' : row.stock < 0 ? '?' : row.stock
          }}</span></template
        >
      </DataTable>
    </section>
    <aside
      v-if="active"
      class="w-[348px] shrink-0 overflow-auto border-l border-rule bg-sheet p-4.5 max-[1180px]:w-[310px]"
      aria-label="Why"
    >
      <LaneBench :id="active" @sku="emit('open', $event)" />
    </aside>
    <MoveLanes v-if="moving" :lanes="chosen" :source="source" @close="moving = false" />
  </div>
</template>
