<script setup lang="ts">
/** Listings from preparation to their end, in every store: bulk first, what is missing said before. */
import { useQuery } from '@tanstack/vue-query'
import { useMediaQuery } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import { useKeys } from '@/app/keys'
import { act, tell } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import Filter from '@/parts/Filter.vue'
import Pills from '@/parts/Pills.vue'
import SheetOut from '@/parts/SheetOut.vue'
import Tag from '@/parts/Tag.vue'
import { useAsk } from '@/parts/ask'
import { money, number, plural } from '@/parts/format'
import Allowance from './Allowance.vue'
import CopyTo from './CopyTo.vue'
import Phrases from './Phrases.vue'
import Publishing from './Publishing.vue'
import ShelfBench from './ShelfBench.vue'
import { kept } from './keeper'
import StoreWords from './StoreWords.vue'
import Variants from './Variants.vue'
import { shelfStoresQuery } from './queries'

type Row = Schema<'ShelfRow'>
const VIEWS: Record<string, string> = {
  preparing: 'state:preparing',
  live: 'state:live',
  paused: 'state:paused',
  ended: 'state:ended',
  refused: 'refused:yes',
  differs: 'differs:yes',
}
const { data: stores } = useQuery(shelfStoresQuery())
const counts = computed(() => {
  const out: Record<string, number> = {}
  for (const one of stores.value ?? [])
    if (!text('store') || text('store') === String(one.id))
      for (const [state, n] of Object.entries(one.counts)) out[state] = (out[state] ?? 0) + n
  return out
})
const view = computed(() => text('view') || (counts.value.preparing ? 'preparing' : 'live'))
const { ask, set, sort, text, sheet } = useAsk(() =>
  [VIEWS[view.value], text('store') && `store:${text('store')}`].filter(Boolean).join(';'),
)
const pills = computed(() =>
  (
    [
      ['preparing', 'In preparation'],
      ['live', 'On sale'],
      ['paused', 'Paused'],
      ['ended', 'Ended'],
      ['refused', 'Refused by the store'],
      ['differs', 'Differs in the store'],
    ] as const
  ).map(([key, label]) => ({ key, label, count: counts.value[key] ?? 0, waits: key === 'refused' || key === 'differs' })),
)
// In a narrow window the title matters more than the category.
const narrow = useMediaQuery('(max-width: 1180px)')
const columns = computed<Column[]>(() => [
  { key: 'title', label: 'Listing' },
  { key: 'store', label: 'Store', width: narrow.value ? '104px' : '132px' },
  ...(narrow.value ? [] : [{ key: 'category', label: 'Category', width: '96px' }]),
  { key: 'price', label: 'Price', width: '78px', right: true },
  { key: 'profit', label: 'Profit', width: '78px', right: true },
  { key: 'quantity', label: 'Shows', width: '60px', right: true },
  { key: 'state', label: 'Stands', width: '112px', sort: false },
])
const active = ref<number | null>(null)
const chosen = ref<number[]>([])
const table = ref<{ clear: () => void; rowOf: (id: number) => unknown } | null>(null)
const publishing = ref<number[] | null>(null)
const copying = ref<number[] | null>(null)
const sizes = ref<number | null>(null)
const copyFrom = computed(() => {
  const one = stores.value?.find((store) => text('store') === String(store.id))?.name
  return one ?? (copying.value?.length === 1 ? ((table.value?.rowOf(copying.value[0]!) as Row | undefined)?.store ?? '') : '')
})
const open = ref<'phrases' | 'words' | 'allowance' | null>(text('allowance') ? 'allowance' : null)
watch(view, () => (active.value = null))
const limited = computed(() => (stores.value ?? []).filter((one) => one.limited && (!text('store') || text('store') === String(one.id))))
const mine = () => (chosen.value.length ? chosen.value : active.value ? [active.value] : [])
const done = () => table.value?.clear()
/** Nothing goes on sale before all that was typed is kept. */
async function publish() {
  const ids = mine()
  if (!ids.length || !['preparing', 'ended'].includes(view.value)) return
  if ((await Promise.all(ids.map(kept))).every(Boolean)) publishing.value = ids
  else tell('What you typed is not kept yet; it goes on sale once it is', true)
}
const sale = (on: boolean) =>
  act(() => take(api.POST('/api/v1/prices/listings/on-sale', { body: { listings: mine(), on, reason: '' } }))).then(done)
const end = () => act(() => take(api.POST('/api/v1/shelf/end', { body: { listings: mine() } }))).then(done)
/** Ask the stores what they show now; each is a job of its own. */
const readAnew = () =>
  act(async () => {
    const asked = (stores.value ?? []).filter((one) => one.called && (!text('store') || text('store') === String(one.id)))
    const message = []
    for (const one of asked)
      message.push(await take(api.POST('/api/v1/shelf/stores/{number}/read', { params: { path: { number: one.id } } })))
    if (message.length === 1) return message[0]!
    return {
      message: asked.length ? `Reading ${plural(asked.length, 'store')}` : 'That store works by sheets: bring its listings in as one',
    }
  })
const again = () => act(() => take(api.POST('/api/v1/shelf/again', { body: { listings: mine() } }))).then(done)
useKeys('Shelf', [
  { key: 'p', message: 'publish the chosen', run: () => void publish() },
  { key: 'c', message: 'copy the chosen to another store', run: () => mine().length && (copying.value = mine()) },
  { key: 'v', message: 'its sizes and colours', run: () => active.value && (sizes.value = active.value) },
  { key: 'e', message: 'end the chosen', run: () => mine().length && void end() },
  { key: 'h', message: 'hide the chosen', run: () => view.value === 'live' && mine().length && void sale(false) },
  { key: 'b', message: 'put back on sale', run: () => view.value === 'paused' && mine().length && void sale(true) },
  { key: 'escape', message: 'close the bench', run: () => (active.value = null) },
])
const STANDS: Record<string, string> = { preparing: 'in preparation', live: 'on sale', paused: 'paused', ended: 'ended' }
const WHY: Record<string, string> = { stock: 'none left', hold: 'a limit', hand: 'by hand' }
const EMPTY: Record<string, [string, string]> = {
  preparing: ['Nothing is in preparation', 'Put items on the shelf in Source: each comes here with its lane open.'],
  refused: ['No store refuses anything', 'What a store would not take stands here with its reason, and goes again alone.'],
  differs: ['Stores show what we say', 'Where a store shows other words than ours, they stand here side by side.'],
}
</script>

<template>
  <div class="grid h-full grid-cols-[minmax(0,1fr)_388px] max-[1180px]:grid-cols-[minmax(0,1fr)_300px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5">
      <h1 class="sr-only">Shelf</h1>
      <div class="flex items-center gap-2">
        <Pills :pending="!stores" :options="pills" :chosen="view" label="Where listings stand" @choose="set({ view: $event })" />
        <RouterLink to="/shelf/print" class="ml-auto"><Btn small>Printed for each order</Btn></RouterLink>
      </div>
      <div class="flex flex-wrap items-center gap-2">
        <Filter :words="ask.words" label="SKU or title" @change="set({ words: $event })" />
        <select
          class="field w-auto!"
          aria-label="Store"
          :value="text('store')"
          @change="set({ store: ($event.target as HTMLSelectElement).value })"
        >
          <option value="">all stores</option>
          <option v-for="one in stores ?? []" :key="one.id" :value="String(one.id)">{{ one.name }}</option>
        </select>
        <span class="ml-auto" />
        <template v-if="chosen.length"
          ><span class="text-soft">{{ chosen.length }} chosen</span
          ><Btn v-if="view === 'preparing' || view === 'ended'" small kind="main" hint="P" @click="publish">{{
            view === 'ended' ? 'Bring back' : 'Publish'
          }}</Btn
          ><Btn v-if="view === 'live'" small hint="H" @click="sale(false)">Hide</Btn
          ><Btn v-if="view === 'paused'" small hint="B" @click="sale(true)">Put back on sale</Btn
          ><Btn v-if="view === 'refused'" small kind="main" @click="again">Send again</Btn
          ><Btn small hint="C" @click="copying = chosen">Copy to a store</Btn
          ><Btn v-if="view !== 'ended'" small hint="E" @click="end">{{ view === 'preparing' ? 'Drop' : 'End' }}</Btn></template
        >
        <template v-else
          ><Btn v-if="view === 'differs'" small @click="readAnew">Read {{ text('store') ? 'this store' : 'the stores' }} anew</Btn
          ><Btn small @click="open = 'phrases'">Phrases</Btn><Btn small @click="open = 'words'">Listing rules</Btn
          ><Btn v-if="limited.length && view !== 'differs'" small @click="open = 'allowance'">Allowance</Btn
          ><SheetOut :csv="sheet('shelf', 'csv')" :xlsx="sheet('shelf', 'xlsx')"
        /></template>
      </div>
      <DataTable
        ref="table"
        v-model:active="active"
        :path="LISTS.shelf"
        name="Listings"
        :columns="columns"
        :ask="ask"
        choose
        first
        :edge="(row: Row) => (row.refused ? 'bg-brick' : row.differs ? 'bg-amber' : '')"
        :empty="EMPTY[view]?.[0] ?? 'No listing stands here'"
        :empty-message="EMPTY[view]?.[1] ?? 'Choose another store, or take words away.'"
        @sort="sort"
        @chosen="chosen = $event"
        @act="view === 'preparing' || view === 'ended' ? (publishing = [$event.id]) : undefined"
      >
        <template #title="{ row }: { row: Row }"
          ><span class="block truncate font-semibold" :title="row.title">{{ row.title }}</span
          ><span class="cell-2 block truncate"
            ><span class="code">{{ row.sku }}</span
            ><span v-if="row.refused" class="ml-2 text-brick" :title="row.refused">{{ row.refused }}</span></span
          ></template
        >
        <template #price="{ row }: { row: Row }">{{ money(row.price) }}</template>
        <template #profit="{ row }: { row: Row }"
          ><span :class="row.profit && number(row.profit) < 0 ? 'font-semibold text-brick' : ''">{{ money(row.profit) }}</span></template
        >
        <template #quantity="{ row }: { row: Row }">{{ row.state === 'preparing' ? '–' : row.quantity }}</template>
        <template #state="{ row }: { row: Row }"
          ><Tag v-if="row.refused" tone="loss">refused</Tag><Tag v-else-if="row.moving" tone="info">on its way</Tag
          ><Tag v-else :tone="row.state === 'live' ? 'good' : 'plain'">{{ STANDS[row.state] }}</Tag
          ><span v-if="row.paused_by" class="cell-2 block">{{ WHY[row.paused_by] }}</span></template
        >
      </DataTable>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="What it says">
      <ShelfBench v-if="active" :key="active" :listing="active" @publish="publishing = [active!]" @sizes="sizes = active" />
      <p v-else class="text-soft">
        Choose a listing to see and change what it says. {{ stores ? `${plural(counts.preparing ?? 0, 'listing')} in preparation.` : '' }}
      </p>
    </aside>
    <Variants v-if="sizes" :listing="sizes" @close="sizes = null" />
    <Publishing v-if="publishing" :listings="publishing" @close="((publishing = null), done())" />
    <CopyTo v-if="copying" :listings="copying" :from="copyFrom" :stores="stores ?? []" @close="((copying = null), done())" />
    <Phrases v-if="open === 'phrases'" :stores="stores ?? []" @close="open = null" />
    <StoreWords v-if="open === 'words'" :stores="stores ?? []" @close="open = null" />
    <Allowance
      v-if="open === 'allowance' && limited.length"
      :stores="limited"
      :start="Number(text('allowance')) || undefined"
      @close="((open = null), set({ allowance: undefined }))"
    />
  </div>
</template>
