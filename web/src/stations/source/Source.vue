<script setup lang="ts">
/** Find goods in all suppliers' catalogues, each as it would be in the chosen store by the rules of now. */
import { useQuery } from '@tanstack/vue-query'
import { useMediaQuery } from '@vueuse/core'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import StockBars from '@/parts/StockBars.vue'
import Tag from '@/parts/Tag.vue'
import { useAsk } from '@/parts/ask'
import { count, money, number, percent } from '@/parts/format'
import Pills from '@/parts/Pills.vue'
import Chips from './Chips.vue'
import Compare from './Compare.vue'
import ItemBench from './ItemBench.vue'
import KeepLooking from './KeepLooking.vue'
import Looking from './Looking.vue'
import Paste from './Paste.vue'
import Requests from './Requests.vue'
import Samples from './Samples.vue'
import { facetsQuery } from './queries'

type Row = Schema<'ItemRow'>
const NAMES = ['supplier', 'category', 'ships_from', 'days', 'lands_most', 'keeps_least', 'stock_least', 'rating_least', 'ours']
const { data: facets } = useQuery(facetsQuery())
const store = computed(() => Number(text('store')) || facets.value?.stores[0]?.id || 0)
const { ask, set, sort, text } = useAsk(
  () => [`store:${store.value}`, ...NAMES.filter((name) => text(name)).map((name) => `${name}:${text(name)}`)].join(';'),
  () => ({ sort: 'profit', down: true }),
)
const values = computed(() => ({ store: String(store.value), ...Object.fromEntries(NAMES.map((name) => [name, text(name)])) }))
// In a narrow window the title matters more than the margin, which follows from what stands beside it.
const narrow = useMediaQuery('(max-width: 1180px)')
const columns = computed<Column[]>(() => [
  { key: 'title', label: 'Item', sort: false },
  { key: 'days', label: 'Arrives', width: '76px', right: true },
  { key: 'lands', label: 'Landed cost', width: '90px', right: true },
  { key: 'price', label: 'You’d sell at', width: '88px', right: true, sort: false },
  { key: 'profit', label: 'Profit', width: '92px', right: true },
  ...(narrow.value ? [] : [{ key: 'margin', label: 'Margin', width: '66px', right: true }]),
  { key: 'steady', label: 'Stock, 60 days', width: '104px' },
  { key: 'stock', label: 'Now', width: '64px', right: true },
])
const active = ref<number | null>(null)
const chosen = ref<number[]>([])
const table = ref<{ clear: () => void; total: number | null } | null>(null)
const comparing = ref<number[] | null>(null)
const pasting = ref(false)
const keeping = ref(false)
const VIEWS = [
  { key: '', label: 'Find' },
  { key: 'looking', label: 'Saved searches' },
  { key: 'samples', label: 'Samples' },
  { key: 'requests', label: 'Asked of suppliers' },
]
const view = computed(() => text('view'))
const field = ref<HTMLInputElement | null>(null)
const total = computed(() => table.value?.total ?? null)
const items = computed(() => facets.value?.suppliers.reduce((sum, one) => sum + one.items, 0) ?? 0)

async function put(ids: number[]) {
  if (!ids.length) return
  const done = await act(() => take(api.POST('/api/v1/source/put', { body: { items: ids, store: store.value } })))
  if (done) {
    table.value?.clear()
    comparing.value = null
  }
}
const compare = () => {
  if (chosen.value.length > 1) comparing.value = chosen.value.slice(0, 5)
}
const mine = () => (chosen.value.length ? chosen.value : active.value ? [active.value] : [])
useKeys('Source', [
  { key: '/', message: 'search', run: () => field.value?.select() },
  { key: 'p', message: 'put the chosen (or this one) on the shelf', run: () => void put(mine()) },
  { key: 'c', message: 'compare the chosen', run: compare },
  { key: 'l', message: 'bring in by links or numbers', run: () => (pasting.value = true) },
  { key: 'o', message: 'save the search', run: () => (keeping.value = true) },
  { key: 'escape', message: 'close the bench', run: () => (active.value = null) },
])
const ORDER: Record<string, string> = {
  profit: 'most profit',
  margin: 'best margin',
  days: 'quickest',
  lands: 'dearest',
  stock: 'most stock',
  steady: 'steadiest stock',
}
const OTHER: Record<string, string> = {
  profit: 'least profit',
  margin: 'least margin',
  days: 'quickest',
  lands: 'cheapest',
  stock: 'least stock',
  steady: 'least steady',
}
const order = computed(() => (ask.value.down ? (ask.value.sort === 'days' ? 'slowest' : ORDER[ask.value.sort]) : OTHER[ask.value.sort]))
const jumpy = (row: Row) => row.moves >= 8
</script>

<template>
  <div class="grid h-full" :class="view ? 'grid-cols-1' : 'grid-cols-[minmax(0,1fr)_348px] max-[1180px]:grid-cols-[minmax(0,1fr)_290px]'">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5">
      <h1 class="sr-only">Source</h1>
      <Pills :options="VIEWS" :chosen="view" label="Parts of source" @choose="set({ view: $event })" />
      <Looking v-if="view === 'looking'" />
      <Samples v-else-if="view === 'samples'" />
      <Requests v-else-if="view === 'requests' && facets" :suppliers="facets.suppliers" />
      <template v-else>
        <div class="flex items-center gap-2.5">
          <div class="relative flex-1">
            <input
              ref="field"
              type="search"
              class="h-10 w-full rounded-md border border-faint bg-sheet px-3 pr-9 text-base"
              :value="ask.words"
              maxlength="200"
              aria-label="Search all suppliers’ items"
              placeholder="Search all suppliers’ items by word, number or barcode"
              @input="set({ words: ($event.target as HTMLInputElement).value })"
              @keydown.esc="field?.blur()"
            />
            <kbd class="pointer-events-none absolute top-2.5 right-3 rounded border border-faint px-1 font-mono text-2xs text-soft">/</kbd>
          </div>
          <Btn hint="L" @click="pasting = true">Paste links or numbers</Btn><Btn hint="O" @click="keeping = true">Save search</Btn>
        </div>
        <Chips v-if="facets" :facets="facets" :values="values" @set="(name, value) => set({ [name]: value })" />
        <p class="flex items-baseline gap-2 text-soft">
          <span v-if="total !== null"
            ><b class="text-ink">{{ count(total) }}</b
            >{{ facets ? ` of ${count(items)}` : '' }} items, {{ order }} first</span
          ><span class="ml-auto" />
          <template v-if="chosen.length"
            ><span>{{ chosen.length }} chosen</span
            ><Btn small :disabled="chosen.length < 2" hint="C" @click="compare">Compare {{ Math.min(chosen.length, 5) }}</Btn
            ><Btn small kind="main" hint="P" @click="put(chosen)">Put {{ chosen.length }} on the shelf</Btn></template
          ><span v-else>each comes with its lane already open</span>
        </p>
        <DataTable
          v-if="store"
          ref="table"
          v-model:active="active"
          :path="LISTS.goods"
          name="Items"
          :columns="columns"
          :ask="ask"
          :row-height="48"
          choose
          first
          empty="No item has all that"
          empty-message="Take a word or a limit away; or paste a link if you know where it is."
          @sort="sort"
          @chosen="chosen = $event"
          @act="put([$event.id])"
        >
          <template #title="{ row }: { row: Row }"
            ><span class="flex items-center gap-1.5"
              ><span class="truncate font-semibold" :title="row.title">{{ row.title }}</span
              ><Tag v-if="row.have" tone="info" class="shrink-0" :title="`You have it as ${row.have}`">have it</Tag
              ><Tag v-else-if="row.like" class="shrink-0" :title="`Very like ${row.like}, likeness ${row.likeness}`">like yours</Tag
              ><Tag v-if="jumpy(row)" class="shrink-0" :title="`${row.moves} cost moves in 60 days`">cost changes often</Tag></span
            ><span class="cell-2 block truncate"
              ><span class="code">{{ row.number }}</span> {{ row.supplier }}, {{ row.origin }}</span
            ></template
          >
          <template #days="{ row }: { row: Row }">{{ row.days === null ? 'not sent' : `${row.days} days` }}</template>
          <template #lands="{ row }: { row: Row }">{{ money(row.lands) }}</template>
          <template #price="{ row }: { row: Row }">{{ money(row.price) }}</template>
          <template #profit="{ row }: { row: Row }"
            ><b :class="row.profit && number(row.profit) < 0 ? 'text-brick' : 'text-pine'">{{ money(row.profit) }}</b></template
          >
          <template #margin="{ row }: { row: Row }">{{
            row.margin === null || row.margin === undefined ? '–' : percent(row.margin / 100)
          }}</template>
          <template #steady="{ row }: { row: Row }"><StockBars :stock="row.past" :days="row.in_stock" /></template>
          <template #stock="{ row }: { row: Row }">{{ row.stock < 0 ? '?' : count(row.stock) }}</template>
        </DataTable>
      </template>
    </section>
    <aside v-if="!view" class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="Why">
      <ItemBench v-if="active" :item="active" :store="store" @put="put([active])" />
      <p v-else class="text-soft">Choose an item to see what it would be in your store.</p>
    </aside>
    <Compare v-if="comparing" :ids="comparing" :store="store" @close="comparing = null" @put="put" />
    <KeepLooking v-if="keeping" :ask="ask" :fit="total" @close="keeping = false" />
    <Paste v-if="pasting && facets" :stores="facets.stores" :store="store" @close="pasting = false" />
  </div>
</template>
