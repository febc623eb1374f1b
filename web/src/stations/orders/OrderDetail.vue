<script setup lang="ts">
/** One order: the ways to fill it side by side, what stands in its way, what can be done, and what was bought. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import AlsoHere from '@/parts/AlsoHere.vue'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import Waterfall from '@/parts/Waterfall.vue'
import When from '@/parts/When.vue'
import { dateOf, money } from '@/parts/format'
import AddressForm from './AddressForm.vue'
import BuyersData from './BuyersData.vue'
import Earns from './Earns.vue'
import Lacking from './Lacking.vue'
import Lines from './Lines.vue'
import OrderMoney from './OrderMoney.vue'
import Printed from './Printed.vue'
import Twin from './Twin.vue'
import Ways from './Ways.vue'
import WaysOn from './WaysOn.vue'
import { orderQuery } from './queries'

const props = defineProps<{ order: number }>()
const emit = defineEmits<{ close: [] }>()
const asked = useQuery(computed(() => orderQuery(props.order)))
const { data } = asked
const mending = ref(false)
const asking = ref(false)
const path = { params: { path: { number: props.order } } }
/** What the buyer asked for after buying was settled with them. */
const settle = () => act(() => take(api.POST('/api/v1/orders/{number}/settled', path)))
const cancel = () => act(() => take(api.POST('/api/v1/orders/{number}/cancel', { ...path, body: { reason: '' } })))
const send = () => act(() => take(api.POST('/api/v1/orders/send', { body: { orders: [props.order], paid_together: false } })))
const setLane = (one: number, lane: number | null) =>
  act(() => take(api.POST('/api/v1/orders/lines/{line}/lane', { params: { path: { line: one } }, body: { lane } })))
const choose = (way: Schema<'WayOut'>) => setLane(way.line, way.lane)
const giveBack = (one: number) => setLane(one, null)
const wait = (byHand: boolean) => act(() => take(api.POST('/api/v1/orders/wait', { body: { orders: [props.order], by_hand: byHand } })))
/** Lines that no lane can fill now: there is none, or all are shut or empty. */
const lacking = computed(
  () =>
    data.value?.lines.filter(
      (line) => line.sku_id && (line.state === 'needs_lane' || (line.state === 'held' && ['no_lane', 'no_stock'].includes(line.reason))),
    ) ?? [],
)
const open = computed(
  () => data.value?.lines.some((line) => ['new', 'needs_lane', 'held', 'ready', 'refused'].includes(line.state)) ?? false,
)
const filled = computed(
  () =>
    !lacking.value.length &&
    data.value?.lines.every(
      (one) =>
        !['new', 'needs_lane', 'held', 'ready', 'refused'].includes(one.state) ||
        data.value!.ways.some((way) => way.line === one.id && way.chosen),
    ),
)
const ready = computed(
  () =>
    data.value?.lines.some((line) => line.state === 'ready') &&
    !data.value.lines.some((line) => ['new', 'needs_lane', 'held', 'refused'].includes(line.state)),
)
/** The first of its ways on that a key can go. */
const first = computed(() => data.value?.ways_on.find((way) => way.key && way.key !== 'cancel'))
const go = (key: string) => act(() => take(api.POST('/api/v1/orders/{number}/way', { ...path, body: { key } })))
const main = computed(() =>
  ready.value ? 'send' : data.value?.limit === 'address' ? 'mend' : data.value?.wants ? 'settle' : first.value ? 'way' : null,
)
useKeys('This order', [
  {
    key: 'a',
    message: 'do the best step',
    run: () => {
      if (main.value === 'send') void send()
      else if (main.value === 'way') void go(first.value!.key)
      else if (main.value === 'mend') mending.value = true
      else if (main.value === 'settle') void settle()
    },
  },
])
const address = computed(() => (data.value?.lines_of_address ?? []).join(', '))
</script>

<template>
  <section class="sheet flex flex-col overflow-hidden" aria-label="Order">
    <Sight :of="asked" :lines="6" />
    <template v-if="data">
      <div class="flex items-baseline gap-3 border-b border-rule px-3.5 py-2">
        <h2 class="whitespace-nowrap">Order {{ data.number }}</h2>
        <Tag v-if="data.message" class="max-w-[46%] truncate" tone="waits" :title="data.message">{{ data.message }}</Tag><span
          class="truncate text-soft"
          >{{ address }}{{ data.mended ? ' (mended)' : '' }}</span
        ><span class="ml-auto whitespace-nowrap text-soft">promised by {{ data.promised_by ? dateOf(data.promised_by) : 'no day' }}</span
        ><Btn small @click="emit('close')">Close</Btn>
      </div>
      <div class="min-h-0 flex-1 overflow-auto">
        <AlsoHere class="rounded-none! border-b border-rule-2 px-3.5" :names="data.others" />
        <div v-if="data.wants" class="flex items-center gap-3 border-b border-rule-2 bg-amber-wash px-3.5 py-1.5">
          <p class="font-semibold text-amber-ink">{{ data.wants_message.charAt(0).toUpperCase() + data.wants_message.slice(1) }}</p>
          <Btn class="ml-auto shrink-0" small :hint="main === 'settle' ? 'A' : undefined" @click="settle">Settled with the buyer</Btn>
        </div>
        <Twin v-if="data.twin" :order="data" />
        <WaysOn v-if="data.ways_on.length" :ways="data.ways_on" :best="main === 'way' ? first?.key : undefined" @go="go" />
        <p v-if="data.sentence" class="border-b border-rule-2 px-3.5 py-2">{{ data.sentence }}</p>
        <Lines :order="data" :open="open" />
        <Lacking v-for="(one, n) in lacking" :key="one.id" :line="one" :keys="n === 0" />
        <table v-if="data.purchases.length" class="mt-1 w-full border-t border-rule">
          <thead>
            <tr class="h-7 text-2xs text-soft">
              <th class="px-3.5">Purchase order</th>
              <th class="px-2">Supplier</th>
              <th class="px-2">State</th>
              <th class="px-2 text-right">Planned</th>
              <th class="px-2 text-right">Billed</th>
              <th class="px-2">Parcels</th>
              <th class="px-3.5 text-right">Sent</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data.purchases" :key="one.id" class="h-8 border-t border-rule-2">
              <td class="px-3.5">
                <span class="code">{{ one.reference }}</span> <span class="text-xs text-soft">{{ one.their_number }}</span>
                <a class="ml-2 text-xs text-slate hover:underline" :href="`api/v1/ordering/purchases/${one.id}.pdf`">slip</a>
                <a class="ml-1.5 text-xs text-slate hover:underline" :href="`api/v1/ordering/purchases/${one.id}.xml`">document</a>
              </td>
              <td class="px-2">{{ one.supplier }}</td>
              <td class="px-2">
                {{ one.state === 'sent' && one.by_sheets ? 'handed over' : one.state
                }}<span v-if="one.message || one.noted" class="text-brick"
                  >; {{ [one.message, one.noted].filter(Boolean).join('; ') }}</span
                >
              </td>
              <td class="px-2 text-right">{{ money(one.planned) }}</td>
              <td class="px-2 text-right">{{ money(one.billed) }}</td>
              <td class="code px-2">
                <RouterLink
                  v-for="parcel in one.parcels"
                  :key="parcel"
                  class="text-slate hover:underline"
                  :to="`/transit?words=${parcel}`"
                  >{{ parcel }}</RouterLink
                >
              </td>
              <td class="px-3.5 text-right text-soft"><When :at="one.made_at" clock /></td>
            </tr>
          </tbody>
        </table>
        <Printed v-if="data.purchases.length" :order="data.id" />
        <OrderMoney v-if="data.purchases.length" :order="data.id" />
        <h3 v-if="!open && data.ways.length" class="mt-3 px-3.5">Why from there: the lanes as they were when it was sent</h3>
        <div v-if="data.ways.length" class="mt-1 flex flex-col border-t border-rule xl:flex-row xl:items-start">
          <Ways class="w-full min-w-0 xl:flex-1" :order="data" :over="!open" @choose="choose" @give="giveBack" />
          <aside
            v-if="data.steps.length"
            class="w-80 shrink-0 border-rule-2 px-3 py-2 xl:w-60 xl:border-l"
            aria-label="What becomes of the money"
          >
            <Waterfall :steps="data.steps" />
          </aside>
        </div>
      </div>
      <div class="flex shrink-0 flex-wrap items-center gap-2 border-t border-rule px-3.5 py-2">
        <template v-if="open">
          <Btn v-if="ready" kind="main" hint="A" @click="send">Send this order</Btn>
          <Btn v-if="ready && data.send_after" @click="wait(true)">Hold until I send it</Btn>
          <Btn v-else-if="ready && data.by_hand" @click="wait(false)">Let it go by itself</Btn>
          <Btn :kind="main === 'mend' ? 'main' : 'plain'" :hint="main === 'mend' ? 'A' : undefined" @click="mending = true"
            >Mend the address</Btn
          >
          <Btn v-if="!data.ways_on.some((way) => way.key === 'cancel')" kind="loss" @click="cancel">Cancel and refund</Btn>
        </template>
        <Btn v-if="!data.erased" kind="link" @click="asking = true">The buyer's data</Btn
        ><span v-else class="text-soft">The buyer is erased</span>
        <Earns class="ml-auto" :order="data" :known="!open || !!filled" />
      </div>
      <AddressForm v-if="mending" :order="data" @close="mending = false" />
      <BuyersData v-if="asking" :order="data" @close="asking = false" />
    </template>
  </section>
</template>
