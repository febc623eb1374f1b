<script setup lang="ts">
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import Filter from '@/parts/Filter.vue'
import Pills from '@/parts/Pills.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { useAsk } from '@/parts/ask'

type Row = Schema<'OutboxOut'>
const FILTERS: Record<string, string> = {
  open: 'state:waiting,claimed,unknown',
  dead: 'state:dead',
  done: 'state:done',
  dropped: 'state:dropped',
}
const { ask, set, sort, text } = useAsk(() => FILTERS[text('state')] ?? '')
const pills = [
  { key: '', label: 'All' },
  { key: 'open', label: 'Not yet taken' },
  { key: 'dead', label: 'Given up' },
  { key: 'done', label: 'Taken' },
  { key: 'dropped', label: 'Overtaken' },
]
const columns: Column[] = [
  { key: 'made_at', label: 'Decided', width: '72px' },
  { key: 'kind', label: 'What', width: '88px' },
  { key: 'about', label: 'About', width: '160px', sort: false },
  { key: 'asks', label: 'Asks for', sort: false },
  { key: 'target', label: 'Of', width: '128px' },
  { key: 'state', label: 'State', width: '92px' },
  { key: 'tries', label: 'Tries', right: true, width: '60px', wide: true },
  { key: 'answer', label: 'What came back', width: '170px' },
  { key: 'again', label: '', width: '90px', sort: false },
]
const WHAT: Record<string, string> = {
  listing: 'listing',
  purchase: 'purchase',
  fulfilment: 'tracking',
  mail: 'mail',
  cancel: 'cancelling',
}
const STATES: Record<string, string> = {
  waiting: 'waits',
  claimed: 'on its way',
  unknown: 'unknown',
  done: 'taken',
  dead: 'given up',
  dropped: 'overtaken',
}
const active = ref<number | null>(null)
const tone = (state: string) => (state === 'done' ? 'good' : state === 'dead' ? 'loss' : state === 'unknown' ? 'waits' : 'plain')
const again = (row: Row) =>
  row.state === 'dead' && void act(() => take(api.POST('/api/v1/outbox/{number}/retry', { params: { path: { number: row.id } } })))
</script>

<template>
  <div class="flex flex-col gap-3">
    <div class="flex items-center gap-3">
      <h1>Outbox</h1>
      <p class="text-soft">what was decided here and goes outside, each once</p>
      <span class="ml-auto" /><Filter :words="ask.words" label="SKU, order or reference" @change="set({ words: $event })" />
    </div>
    <Pills :options="pills" :chosen="text('state')" label="Which changes" @choose="set({ state: $event })" />
    <DataTable
      v-model:active="active"
      :path="LISTS.outbox"
      name="Outbox"
      :columns="columns"
      :ask="ask"
      :row-height="36"
      empty="Nothing stands here"
      @sort="sort"
      @act="again"
    >
      <template #made_at="{ row }: { row: Row }"
        ><span class="text-soft"><When :at="row.made_at" clock /></span
      ></template>
      <template #kind="{ row }: { row: Row }">{{ WHAT[row.kind] ?? row.kind }}</template>
      <template #about="{ row }: { row: Row }"
        ><span class="code block truncate" :title="row.about">{{ row.about }}</span></template
      >
      <template #asks="{ row }: { row: Row }"
        ><span class="block truncate" :title="row.asks">{{ row.asks }}</span></template
      >
      <template #target="{ row }: { row: Row }"
        ><span class="block truncate" :title="row.target">{{ row.target }}</span></template
      >
      <template #state="{ row }: { row: Row }"
        ><Tag :tone="tone(row.state)">{{ STATES[row.state] ?? row.state }}</Tag></template
      >
      <template #answer="{ row }: { row: Row }"
        ><span class="block truncate text-soft" :title="row.answer">{{
          row.overtaken_by ? 'a newer wish took its place' : row.answer
        }}</span></template
      >
      <template #again="{ row }: { row: Row }"><Btn v-if="row.state === 'dead'" small @click.stop="again(row)">Try again</Btn></template>
    </DataTable>
  </div>
</template>
