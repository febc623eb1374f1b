<script setup lang="ts">
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import Filter from '@/parts/Filter.vue'
import SheetOut from '@/parts/SheetOut.vue'
import When from '@/parts/When.vue'
import { useAsk } from '@/parts/ask'

type Row = Schema<'ActOut'>
const { ask, set, sort, text, sheet } = useAsk(() => (text('kind') ? `kind:${text('kind')}` : ''))
const columns: Column[] = [
  { key: 'at', label: 'When', width: '100px' },
  { key: 'who', label: 'Who', width: '130px' },
  { key: 'message', label: 'What', width: '46%' },
  { key: 'reason', label: 'Why' },
  { key: 'undo', label: '', width: '130px', sort: false },
]
const active = ref<number | null>(null)
const undo = (row: Row) =>
  row.undo === 'open' && void act(() => take(api.POST('/api/v1/acts/{number}/undo', { params: { path: { number: row.id } } })))
</script>

<template>
  <div class="flex flex-col gap-3">
    <div class="flex items-center gap-3">
      <h1>Log</h1>
      <p v-if="text('kind')" class="text-soft">one kind of act alone</p>
      <p v-else class="text-soft">who or what did what, and why; nothing is ever taken out</p>
      <Btn v-if="text('kind')" small @click="set({ kind: undefined })">Show all</Btn>
      <span class="ml-auto" /><Filter :words="ask.words" label="What or who" @change="set({ words: $event })" /><SheetOut
        :csv="sheet('acts', 'csv')"
        :xlsx="sheet('acts', 'xlsx')"
      />
    </div>
    <DataTable
      v-model:active="active"
      :path="LISTS.acts"
      name="Log"
      :columns="columns"
      :ask="ask"
      :row-height="36"
      empty="Nothing was done yet"
      @sort="sort"
      @act="undo"
    >
      <template #at="{ row }: { row: Row }"
        ><span class="text-soft"><When :at="row.at" clock /></span
      ></template>
      <template #message="{ row }: { row: Row }"
        ><span class="block truncate first-letter:uppercase" :title="row.message">{{ row.message }}</span></template
      >
      <template #reason="{ row }: { row: Row }"
        ><span class="block truncate text-soft" :title="row.reason">{{ row.reason }}</span></template
      >
      <template #undo="{ row }: { row: Row }"
        ><Btn v-if="row.undo === 'open'" small @click.stop="undo(row)">Undo</Btn
        ><span v-else class="text-xs text-soft">{{ row.undo === 'done' ? 'undone' : 'cannot be undone' }}</span></template
      >
    </DataTable>
  </div>
</template>
