<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { LISTS } from '@/api/lists'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DataTable, { type Column } from '@/parts/DataTable.vue'
import Filter from '@/parts/Filter.vue'
import Modal from '@/parts/Modal.vue'
import SheetIn from '@/parts/SheetIn.vue'
import SheetOut from '@/parts/SheetOut.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { useAsk } from '@/parts/ask'
import { STATE_WORDS, dateOf, money, number, plural, count, timeOf } from '@/parts/format'
import Batches from './Batches.vue'
import OrderDetail from './OrderDetail.vue'
import LeftOut from '@/parts/LeftOut.vue'
import { standingQuery } from './queries'

type Row = Schema<'OrderRow'>
const asked = useQuery(standingQuery())
const { data: standing } = asked
const STATES = ['needs_lane', 'held', 'refused', 'new', 'ready', 'bought', 'with_supplier', 'on_the_road', 'arrived', 'cancelled']
const counts = computed(() => standing.value?.states ?? {})
const shown = computed(() =>
  STATES.filter(
    (state) => counts.value[state] || ['needs_lane', 'held', 'ready', 'with_supplier', 'on_the_road', 'arrived'].includes(state),
  ),
)
const first = computed(() => ['held', 'needs_lane', 'refused', 'ready'].find((state) => counts.value[state]) ?? '')
const { ask, set, sort, text, sheet } = useAsk(() => (state.value ? `state:${state.value}` : ''))
const state = computed(() => (text('state') === 'all' ? '' : text('state') || (text('words') || text('row') ? '' : first.value)))
const WAITS = new Set(['needs_lane', 'held', 'refused'])
const CHOOSABLE = new Set(['ready', ...WAITS])
const columns = computed<Column[]>(() => [
  { key: 'number', label: 'Order', width: '72px' },
  { key: 'title', label: 'What and who', width: '28%' },
  { key: 'message', label: WAITS.has(state.value) ? 'Why it waits' : 'Where it stands', sort: false },
  { key: 'paid', label: 'Paid', right: true, width: '82px' },
  { key: 'profit', label: 'Profit', right: true, width: '82px' },
  { key: 'came_at', label: 'Came', right: true, width: '64px', sort: 'ordered_at' },
  { key: 'promised_by', label: 'Promised', right: true, width: '88px' },
])
const active = ref<number | null>(Number(text('row')) || null)
watch(
  () => text('row'),
  (row) => {
    if (Number(row)) active.value = Number(row)
  },
)
const chosen = ref<number[]>([])
const table = ref<{ clear: () => void; total: number | null } | null>(null)
const bring = ref(false)
const send = () =>
  act(() => take(api.POST('/api/v1/orders/send', { body: { orders: chosen.value, paid_together: together.value } }))).then(() =>
    table.value?.clear(),
  )
const together = ref(false)
const sure = ref(false)
const many = (how: 'allow' | 'cancel') =>
  act(() => take(api.POST(`/api/v1/orders/many/${how}`, { body: { orders: chosen.value, reason: '' } }))).then((worked) => {
    sure.value = false
    if (worked) table.value?.clear()
  })
const letGo = () => void many('allow')
const wait = () =>
  act(() => take(api.POST('/api/v1/orders/wait', { body: { orders: chosen.value, by_hand: true } }))).then(() => table.value?.clear())
const bestStep = (row: Row) => {
  active.value = row.id
}
function message(row: Row): string {
  // A word joiner keeps the minus with its figure.
  if (row.message && WAITS.has(row.state)) return row.message.replace('−', '−\u2060')
  if (row.state === 'needs_lane') return 'A line of it has no lane'
  if (row.state === 'refused') return 'The supplier refused it'
  if (row.state === 'ready' && row.by_hand) return 'Ready, waits for your hand'
  if (row.state === 'ready' && row.send_after) return `Ready, goes at ${timeOf(row.send_after)}`
  if (row.gone && row.gone < row.lines) return `${STATE_WORDS[row.state] ?? row.state}; ${row.gone} of ${row.lines} lines sent`
  return STATE_WORDS[row.state] ?? row.state
}
const choose = (key: string) => {
  active.value = null
  set({ state: key || 'all', row: undefined, show: undefined })
}
useKeys('Orders', [
  { key: 'g', message: 'send all that are ready', run: () => void send() },
  { key: 'escape', message: 'close the order', run: () => (active.value = null) },
])
const edge = (row: Row) => (WAITS.has(row.state) ? 'bg-amber' : '')
/** What is said of one order in a state, and of many. */
const SAID: Record<string, [string, string]> = {
  needs_lane: ['needs a lane', 'need a lane'],
  held: ['is on hold', 'are on hold'],
  refused: ['was refused', 'were refused'],
  new: ['is new', 'are new'],
  ready: ['is ready to send', 'are ready to send'],
  bought: ['is going out', 'are going out'],
  with_supplier: ['is with its supplier', 'are with suppliers'],
  on_the_road: ['is on the road', 'are on the road'],
  arrived: ['has arrived', 'have arrived'],
  cancelled: ['is cancelled', 'are cancelled'],
}
const heading = computed(() => {
  if (!standing.value) return 'Orders'
  const n = state.value ? (counts.value[state.value] ?? 0) : Object.values(counts.value).reduce((a, b) => a + b, 0)
  if (!state.value) return plural(n, 'order')
  const [one, many] = SAID[state.value] ?? ['', '']
  return n > 1 ? `${plural(n, 'order')} ${many}` : `${n ? '1 order' : 'No order'} ${one}`
})
</script>

<template>
  <div class="grid h-full grid-cols-[206px_minmax(0,1fr)]">
    <nav class="overflow-auto border-r border-rule bg-sheet py-3" aria-label="Where orders stand">
      <h2 class="px-3.5 pb-2">Where orders stand</h2>
      <button
        v-for="one in shown"
        :key="one"
        type="button"
        class="relative flex h-8 w-full items-center justify-between px-3.5"
        :class="state === one && !text('show') ? 'bg-shade font-bold' : 'hover:bg-shade/60'"
        :aria-current="state === one"
        @click="choose(one)"
      >
        <span v-if="state === one && !text('show')" class="absolute inset-y-0 left-0 w-[3px] bg-asphalt" aria-hidden="true" />{{
          STATE_WORDS[one]
        }}<Tag :tone="WAITS.has(one) && counts[one] ? 'waits' : 'plain'">{{ standing ? count(counts[one] ?? 0) : '–' }}</Tag>
      </button>
      <button
        type="button"
        class="flex h-8 w-full items-center px-3.5"
        :class="state === '' && !text('show') ? 'bg-shade font-bold' : 'hover:bg-shade/60'"
        @click="choose('')"
      >
        All orders
      </button>
      <button
        type="button"
        class="flex h-8 w-full items-center px-3.5"
        :class="text('show') === 'batches' ? 'bg-shade font-bold' : 'hover:bg-shade/60'"
        @click="set({ show: 'batches', row: undefined })"
      >
        Paid together
      </button>
      <div v-if="standing" class="mt-5 px-3.5">
        <h2>
          {{
            !standing.ready
              ? 'Nothing is ready to send'
              : standing.ready === 1
                ? 'Send the one that is ready'
                : `Send the ${standing.ready} ready`
          }}
        </h2>
        <LeftOut v-if="standing.ready" :of="standing.left_out" />
        <p v-if="standing.ready" class="mt-1 mb-2.5 text-xs text-soft">
          {{ plural(standing.parcels, 'parcel') }}, {{ money(standing.spend) }} to suppliers, profit {{ money(standing.profit) }}. Each is
          bought once.
        </p>
        <Btn v-if="standing.ready" kind="main" hint="G" @click="send">Send {{ chosen.length || standing.ready }}</Btn>
        <label v-if="standing.ready" class="mt-2 flex items-center gap-2 text-xs"
          ><input v-model="together" type="checkbox" class="accent-pine" />one payment per supplier</label
        >
        <Btn v-if="chosen.length" class="mt-2" @click="wait">Hold until I send it</Btn>
      </div>
    </nav>
    <Batches v-if="text('show') === 'batches'" />
    <section v-else class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5">
      <div class="flex items-center gap-3">
        <h1 class="whitespace-nowrap">{{ heading }}</h1>
        <p class="truncate text-soft">
          {{
            state === 'held'
              ? 'each broke one of your limits; pick a way on'
              : state === 'needs_lane'
                ? 'open the lane and they go on by themselves'
                : ''
          }}
        </p>
        <span class="ml-auto" /><Filter :words="ask.words" label="Order, buyer or SKU" @change="set({ words: $event })" /><Btn
          @click="bring = true"
          >Import orders</Btn
        ><SheetOut :csv="sheet('orders', 'csv')" :xlsx="sheet('orders', 'xlsx')" />
      </div>
      <div
        class="flex min-h-28 flex-col"
        :class="active ? 'shrink-0' : 'flex-1'"
        :style="active ? { height: `min(44%, ${Math.max(2, table?.total ?? 0) * 44 + 36}px)` } : undefined"
      >
        <DataTable
          ref="table"
          v-model:active="active"
          :path="LISTS.orders"
          name="Orders"
          :columns="columns"
          :ask="ask"
          :choose="CHOOSABLE.has(state)"
          :first="WAITS.has(state)"
          :edge="edge"
          empty="No order stands here"
          empty-message="Orders come in by the store's link, or as a sheet."
          @sort="sort"
          @chosen="chosen = $event"
          @act="bestStep"
        >
          <template #number="{ row }: { row: Row }"
            ><span class="code">{{ row.number }}</span></template
          >
          <template #title="{ row }: { row: Row }"
            ><b class="block truncate" :title="row.title"
              >{{ row.title || row.sku }}{{ row.units > 1 ? ` ×${row.units}` : '' }}{{ row.lines > 1 ? `, ${row.lines} lines` : '' }}</b
            ><span class="cell-2 block">{{ row.buyer }}, {{ row.country }} · {{ row.store }}</span></template
          >
          <template #message="{ row }: { row: Row }"
            ><span
              class="line-clamp-2 leading-4.5"
              :class="WAITS.has(row.state) ? 'font-semibold text-amber-ink' : ''"
              :title="message(row)"
              >{{ message(row) }}</span
            ></template
          >
          <template #paid="{ row }: { row: Row }">{{ money(row.paid) }}</template>
          <template #profit="{ row }: { row: Row }"
            ><span :class="row.profit && number(row.profit) < 0 ? 'font-bold text-brick' : ''">{{
              row.state === 'needs_lane' || !row.profit ? '–' : money(row.profit)
            }}</span></template
          >
          <template #came_at="{ row }: { row: Row }"
            ><span class="text-soft"><When :at="row.ordered_at" clock /></span
          ></template>
          <template #promised_by="{ row }: { row: Row }">{{ row.promised_by ? dateOf(row.promised_by) : '–' }}</template>
          <template #chosen>
            <Btn v-if="state === 'held'" small kind="main" @click="letGo"
              >Let {{ chosen.length === 1 ? 'it' : `these ${chosen.length}` }} go</Btn
            >
            <Btn v-if="WAITS.has(state)" small kind="loss" @click="sure = true"
              >Cancel {{ chosen.length === 1 ? 'it' : `these ${chosen.length}` }} and refund</Btn
            >
          </template>
        </DataTable>
      </div>
      <OrderDetail v-if="active" :key="active" :order="active" class="min-h-0 flex-1" @close="active = null" />
    </section>
    <Modal :open="sure" :title="`Cancel ${plural(chosen.length, 'order')}?`" @close="sure = false">
      <p>Their stores refund the buyers. This cannot be undone.</p>
      <div class="mt-4 flex justify-end gap-2">
        <Btn @click="sure = false">Keep them</Btn><Btn kind="loss" @click="many('cancel')">Cancel and refund</Btn>
      </div>
    </Modal>
    <SheetIn :open="bring" sheet="orders" title="Import orders" @close="bring = false" />
  </div>
</template>
