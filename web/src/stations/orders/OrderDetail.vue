<script setup lang="ts">
/** One order: the ways to fill it side by side, what stands in its way, what can be done, and what was bought. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act, wordsOf } from '@/app/told'
import Btn from '@/parts/Btn.vue'
import Tag from '@/parts/Tag.vue'
import Waterfall from '@/parts/Waterfall.vue'
import When from '@/parts/When.vue'
import { STATE_WORDS, dateOf, money, number } from '@/parts/format'
import AddressForm from './AddressForm.vue'
import Lacking from './Lacking.vue'
import Ways from './Ways.vue'

const props = defineProps<{ order: number }>()
const emit = defineEmits<{ close: [] }>()
const { data, error } = useQuery({
  queryKey: computed(() => ['order', props.order]),
  queryFn: () => take(api.GET('/api/v1/orders/{number}', { params: { path: { number: props.order } } })),
})
const mending = ref(false)
const path = { params: { path: { number: props.order } } }
const allow = (limit?: string) => act(() => take(api.POST('/api/v1/orders/{number}/allow', { ...path, body: { why: '', limit } })))
/** The other way on of a held order, with what it would earn. */
const other = computed(() => data.value?.ways_on.find((one) => one.limit !== data.value?.limit))
const mine = computed(() => data.value?.ways_on.find((one) => one.limit === data.value?.limit))
/** What the buyer asked for after buying was settled with them. */
const settle = () => act(() => take(api.POST('/api/v1/orders/{number}/settled', path)))
const cancel = () => act(() => take(api.POST('/api/v1/orders/{number}/cancel', { ...path, body: { why: '' } })))
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
      (line) => line.sku_id && (line.state === 'needs_lane' || (line.state === 'held' && ['no_lane', 'no_stock'].includes(line.why))),
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
const ALLOW: Record<string, string> = {
  least_profit: 'Send at that profit',
  look_over: 'Looked at, let it go',
  too_late: 'Send although late',
  unusual: 'That many is right',
  splits: 'Send it in parts',
  address: 'The address is right as it is',
}
const main = computed(() =>
  ready.value
    ? 'send'
    : ['look_over', 'too_late', 'unusual', 'splits'].includes(data.value?.limit ?? '')
      ? 'allow'
      : data.value?.limit === 'address'
        ? 'mend'
        : data.value?.wants
          ? 'settle'
          : null,
)
useKeys('This order', [
  {
    key: 'a',
    told: 'do the best step',
    run: () => {
      if (main.value === 'send') void send()
      else if (main.value === 'allow') void allow()
      else if (main.value === 'mend') mending.value = true
      else if (main.value === 'settle') void settle()
    },
  },
])
/** Without a house number, or with a postcode of another shape, it may still be right; what is missing is not. */
const standing = computed(() => Object.values(data.value?.faults ?? {}).every((told) => /no house number|is not a postcode/.test(told)))
const may = computed(() => !!data.value?.limit && !!ALLOW[data.value.limit] && (data.value.limit !== 'address' || standing.value))
const address = computed(() => {
  const a = data.value?.address ?? {}
  return [a.name, a.address_1, a.address_2, a.city, a.postcode, a.country].filter(Boolean).join(', ')
})
</script>

<template>
  <section class="sheet flex flex-col overflow-hidden" aria-label="Order">
    <p v-if="error" role="alert" class="p-4 text-brick">{{ wordsOf(error) }}</p>
    <template v-else-if="data">
      <div class="flex items-baseline gap-3 border-b border-rule px-3.5 py-2">
        <h2 class="whitespace-nowrap">Order {{ data.number }}</h2>
        <Tag v-if="data.told" class="max-w-[46%] truncate" tone="waits" :title="data.told">{{ data.told }}</Tag><span
          class="truncate text-soft"
          >{{ address }}{{ data.mended ? ' (mended)' : '' }}</span
        ><span class="ml-auto whitespace-nowrap text-soft">promised by {{ data.promised_by ? dateOf(data.promised_by) : 'no day' }}</span
        ><Btn small @click="emit('close')">Close</Btn>
      </div>
      <div class="min-h-0 flex-1 overflow-auto">
        <div v-if="data.wants" class="flex items-center gap-3 border-b border-rule-2 bg-amber-wash px-3.5 py-1.5">
          <p class="font-semibold text-amber-ink">{{ data.wants_told.charAt(0).toUpperCase() + data.wants_told.slice(1) }}</p>
          <Btn class="ml-auto shrink-0" small :hint="main === 'settle' ? 'A' : undefined" @click="settle">Settled with the buyer</Btn>
        </div>
        <p v-if="data.sentence" class="border-b border-rule-2 px-3.5 py-2">{{ data.sentence }}</p>
        <table class="w-full">
          <thead>
            <tr class="h-7 text-2xs text-soft">
              <th class="px-3.5">Line</th>
              <th class="px-2 text-right">Paid</th>
              <th class="px-2 text-right">Tax</th>
              <th class="px-2 text-right">Store fee</th>
              <th class="px-2 text-right">Payment</th>
              <th class="px-2 text-right">We keep</th>
              <th class="px-3.5">State</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data.lines" :key="one.id" class="h-8 border-t border-rule-2">
              <td class="max-w-0 truncate px-3.5" style="width: 46%" :title="one.title">
                <b>{{ one.quantity }} ×</b> {{ one.title || one.sku }} <span class="code text-soft">{{ one.sku }}</span>
              </td>
              <td class="px-2 text-right">{{ money(one.paid) }}</td>
              <td class="px-2 text-right">{{ money(one.tax) }}</td>
              <td class="px-2 text-right">{{ money(one.store_fee) }}</td>
              <td class="px-2 text-right">{{ money(one.payment_fee) }}</td>
              <td class="px-2 text-right font-semibold">{{ money(one.kept) }}</td>
              <td class="px-3.5 whitespace-nowrap">
                <Tag :tone="['needs_lane', 'held', 'refused'].includes(one.state) ? 'waits' : one.state === 'arrived' ? 'good' : 'plain'">{{
                  STATE_WORDS[one.state]
                }}</Tag>
                <span v-if="one.state === 'refused'" class="ml-1 text-xs text-soft">{{ one.why }}</span>
              </td>
            </tr>
          </tbody>
        </table>
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
                <a class="ml-2 text-xs text-slate hover:underline" :href="`/api/v1/ordering/purchases/${one.id}.pdf`">slip</a>
                <a class="ml-1.5 text-xs text-slate hover:underline" :href="`/api/v1/ordering/purchases/${one.id}.xml`">document</a>
              </td>
              <td class="px-2">{{ one.supplier }}</td>
              <td class="px-2">
                {{ one.state
                }}<span v-if="one.told || one.noted" class="text-brick">; {{ [one.told, one.noted].filter(Boolean).join('; ') }}</span>
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
      <div v-if="open" class="flex shrink-0 flex-wrap items-center gap-2 border-t border-rule px-3.5 py-2">
        <Btn v-if="ready" kind="main" hint="A" @click="send">Send this order</Btn>
        <Btn
          v-if="may && data.limit"
          :kind="main === 'allow' ? 'main' : 'plain'"
          :hint="main === 'allow' ? 'A' : undefined"
          @click="allow()"
          >{{ ALLOW[data.limit] }}{{ mine && data.limit !== 'least_profit' ? `, ${money(mine.profit, true)}` : '' }}</Btn
        >
        <Btn v-if="other" @click="allow(other.limit)"
          >{{
            other.limit === 'too_late'
              ? `Send late by ${other.by}${other.arrives ? `, ${dateOf(other.arrives)}` : ''}`
              : `Send by ${other.by}`
          }}, {{ money(other.profit, true) }}</Btn
        >
        <Btn v-if="ready && data.send_after" @click="wait(true)">Wait for my hand</Btn>
        <Btn v-else-if="ready && data.by_hand" @click="wait(false)">Let it go by itself</Btn>
        <Btn :kind="main === 'mend' ? 'main' : 'plain'" @click="mending = true">Mend the address</Btn>
        <Btn kind="loss" @click="cancel">Cancel and refund</Btn>
        <span class="ml-auto text-xs text-soft"
          >profit
          <b :class="data.profit && number(data.profit) < 0 ? 'text-brick' : 'text-pine'">{{
            filled ? money(data.profit, true) : 'not known yet'
          }}</b>; cancelling cannot be undone</span
        >
      </div>
      <AddressForm v-if="mending" :order="data" @close="mending = false" />
    </template>
  </section>
</template>
