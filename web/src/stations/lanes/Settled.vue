<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import Filter from '@/parts/Filter.vue'
import LaneGlyph from '@/parts/LaneGlyph.vue'
import Pills from '@/parts/Pills.vue'
import SheetOut from '@/parts/SheetOut.vue'
import { useAsk } from '@/parts/ask'
import { marginOf, money, percent } from '@/parts/format'

type Row = Schema<'LaneRow'>
const emit = defineEmits<{ back: []; bring: []; open: [sku: number] }>()
const { ask, set, sort, text, sheet } = useAsk(
  () => (text('lane') ? `state:${text('lane')}` : ''),
  () => ({ sort: 'sku', down: false }),
)
const columns: Column[] = [
  { key: 'sku', label: 'SKU', width: '23%' },
  { key: 'lane', label: 'Lane', width: '24%', sort: 'supplier' },
  { key: 'item', label: 'Item and units', width: '22%' },
  { key: 'cost', label: 'Item cost', right: true },
  { key: 'landed', label: 'Landed', right: true },
  { key: 'margin', label: 'Margin', right: true, sort: 'profit' },
  { key: 'stock', label: 'In stock', right: true },
]
const states = [
  { key: '', label: 'All' },
  { key: 'open', label: 'Open' },
  { key: 'new', label: 'New' },
  { key: 'slow', label: 'Slow' },
  { key: 'shut', label: 'Shut' },
]
const active = ref<number | null>(null)
const units = (row: Row) => (row.units_den > 1 ? `${row.units_num}/${row.units_den}` : String(row.units_num))
const ours = computed(() => '/api/v1/sheets/lanes/ours')
</script>

<template>
  <div class="flex h-full flex-col gap-3 p-4.5">
    <div class="flex items-center gap-3">
      <h1>All lanes</h1>
      <Btn kind="link" @click="emit('back')">To settle</Btn><span class="ml-auto" /><SheetOut
        label="Take out for editing"
        :csv="`${ours}.csv`"
        :xlsx="`${ours}.xlsx`"
      /><SheetOut label="Take out the list" :csv="sheet('lanes', 'csv')" :xlsx="sheet('lanes', 'xlsx')" /><Btn @click="emit('bring')"
        >Bring in a sheet</Btn
      >
    </div>
    <div class="flex items-center gap-3">
      <Pills :options="states" :chosen="text('lane')" label="Lanes by state" @choose="set({ lane: $event })" /><span
        class="ml-auto"
      /><Filter :words="ask.words" label="SKU, title or item" @change="set({ words: $event })" />
    </div>
    <DataTable
      v-model:active="active"
      :path="LISTS.lanes"
      name="Lanes"
      :columns="columns"
      :ask="ask"
      empty="No lane fits"
      empty-told="Open one for a SKU, or bring in a sheet."
      @sort="sort"
      @open="emit('open', $event.sku_id)"
    >
      <template #sku="{ row }: { row: Row }"
        ><span class="block truncate" :title="row.title">{{ row.title }}</span
        ><span class="code block truncate text-soft">{{ row.sku }}</span></template
      >
      <template #lane="{ row }: { row: Row }"
        ><span class="flex items-center gap-2"
          ><LaneGlyph :state="row.state" :use="row.use" /><span class="truncate">{{ row.supplier }}</span></span
        ><span class="cell-2 block"
          >{{ row.use ? `spare ${row.use}` : 'main' }}, {{ row.state }}; {{ row.origin }}, {{ row.service }}</span
        ></template
      >
      <template #item="{ row }: { row: Row }"
        ><span class="code block truncate">{{ units(row) }} × {{ row.item }}</span
        ><span class="cell-2 block" :title="row.item_title">{{ row.item_title }}</span></template
      >
      <template #cost="{ row }: { row: Row }">{{ money(row.cost) }}</template>
      <template #landed="{ row }: { row: Row }"
        ><b>{{ row.use ? '–' : money(row.landed) }}</b></template
      >
      <template #margin="{ row }: { row: Row }">{{ row.use ? '–' : percent(marginOf(row.profit, row.net)) }}</template>
      <template #stock="{ row }: { row: Row }"
        ><span :class="row.stock === 0 ? 'text-brick' : ''">{{ row.offer === 'gone' ? 'gone' : row.stock }}</span></template
      >
    </DataTable>
  </div>
</template>
