<script setup lang="ts">
/** Why a price is what it is: a sentence with its numbers, the waterfall, the limits, and what can be done. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take } from '@/api/client'
import { live } from '@/app/live'
import { act, wordsOf } from '@/app/messages'
import Btn from './Btn.vue'
import Modal from './Modal.vue'
import Sight from './Sight.vue'
import StepChart from './StepChart.vue'
import Tag from './Tag.vue'
import Waterfall from './Waterfall.vue'
import { amountOf, dateOf, inField, money, number, percent, plainOf } from './format'
import { home } from '@/parts/home'
import { reasonQuery, historyQuery } from '@/stations/price/queries'

const props = defineProps<{ listing?: number | null; response?: number | null }>()
const asked = useQuery(
  computed(() => ({
    ...reasonQuery(props.response ? 'response' : 'listing', props.response ?? props.listing ?? 0),
    enabled: !!(props.response || props.listing),
  })),
)
const { data } = asked
const { data: history } = useQuery(computed(() => ({ ...historyQuery(data.value?.listing ?? 0), enabled: !!data.value?.listing })))
const show = (value: number) => amountOf(value, data.value?.price.currency ?? home.value)
const to = computed(() => live.now.value)
const series = computed(() => {
  const points = history.value?.points ?? []
  const costs = history.value?.costs ?? []
  const currency = costs[0]?.cost.currency ?? home.value
  return [
    { name: 'price', tone: 'ink' as const, show, points: points.map((p) => ({ at: Date.parse(p.at), value: number(p.price) })) },
    {
      name: 'landed cost',
      tone: 'brick' as const,
      show,
      points: points.filter((p) => p.landed).map((p) => ({ at: Date.parse(p.at), value: number(p.landed) })),
    },
    {
      name: 'its item',
      tone: 'brick' as const,
      show: (value: number) => amountOf(value, currency),
      points: costs.map((p) => ({ at: Date.parse(p.at), value: number(p.cost) })),
    },
  ].filter((one) => one.points.length)
})
const from = computed(() => to.value - 60 * 86_400_000)
const hand = ref(false)
const price = ref('')
const reason = ref('')
const until = ref('')
const wrong = ref('')
async function fix(amount: string | null) {
  const one = data.value!
  const given = amount === null ? null : { amount: plainOf(amount), currency: one.price.currency }
  try {
    const done = await take(
      api.POST('/api/v1/prices/listings/{number}/hand', {
        params: { path: { number: one.listing } },
        body: { version: one.version, price: given, reason: reason.value, until: until.value ? until.value : null },
      }),
    )
    hand.value = false
    void act(() => Promise.resolve(done))
  } catch (problem) {
    wrong.value = wordsOf(problem)
  }
}
const undo = () => act(() => take(api.POST('/api/v1/watch/responses/undo', { body: { responses: [data.value!.response!] } })))
const settle = (approve: boolean) =>
  act(() => take(api.POST('/api/v1/watch/responses/settle', { body: { responses: [data.value!.response!], approve } })))
const onSale = (on: boolean) =>
  act(() => take(api.POST('/api/v1/prices/listings/on-sale', { body: { listings: [data.value!.listing], on, reason: '' } })))
function openHand() {
  price.value = inField(data.value?.price.amount)
  wrong.value = ''
  hand.value = true
}
const WORDS: Record<string, string> = { stock: 'paused, nothing left', hold: 'paused, it would lose money', hand: 'paused by hand' }
</script>

<template>
  <Sight v-if="response || listing" :of="asked" :lines="8" />
  <div v-if="data">
    <p class="truncate">
      <span class="code">{{ data.sku }}</span> <span class="text-soft">{{ data.store }}</span>
    </p>
    <h1 class="mt-0.5">Why {{ money(data.price) }}</h1>
    <p class="text-xs text-soft" :title="data.title">{{ data.title.length > 70 ? data.title.slice(0, 69) + '…' : data.title }}</p>
    <p class="mt-1.5 flex flex-wrap gap-1.5">
      <Tag v-if="data.state === 'paused'" :tone="data.paused_by === 'hold' ? 'waits' : 'plain'">{{
        WORDS[data.paused_by] ?? 'paused'
      }}</Tag>
      <Tag v-if="data.hand_price" tone="info"
        >fixed by hand{{ data.hand_reason ? `: ${data.hand_reason}` : ''
        }}{{ data.hand_until ? `, until ${dateOf(data.hand_until)}` : '' }}</Tag
      >
      <Tag v-if="data.response_state === 'waits'" tone="waits">waits for you</Tag>
    </p>
    <p class="mt-2">{{ data.sentence }}</p>
    <div v-if="data.steps.length" class="mt-3"><Waterfall :steps="data.steps" /></div>
    <p v-if="data.margin !== null" class="mt-1 flex justify-between border-t border-rule pt-2">
      <b>Profit</b
      ><b :class="data.margin < 0 ? 'text-brick' : ''"
        >{{ percent(data.margin) }} after tax{{ data.on_cost === null ? '' : `, ${percent(data.on_cost, 0)} on cost` }}</b
      >
    </p>
    <p v-if="data.apart" class="mt-1 text-xs text-soft">{{ data.apart }}</p>
    <template v-if="data.bounds.length">
      <h2 class="mt-4">Which limit set it</h2>
      <table class="mt-1 w-full">
        <tr v-for="bound in data.bounds" :key="bound.name" class="h-6" :class="bound.sets ? 'font-bold' : ''">
          <th scope="row" class="text-left" :class="bound.sets ? 'font-bold' : 'font-normal'">
            {{ bound.name }}<span v-if="bound.by" class="ml-1 text-2xs font-normal text-soft">{{ bound.by }}</span
            ><span v-if="bound.sets" class="sr-only">, it set the price</span>
          </th>
          <td class="text-right whitespace-nowrap">{{ bound.message || (bound.price ? money(bound.price) : 'no price') }}</td>
        </tr>
        <tr v-if="data.best" class="h-6 border-t border-rule-2">
          <th scope="row" class="text-left font-bold">The rule's price</th>
          <td class="text-right font-bold">{{ money(data.best) }}</td>
        </tr>
      </table>
    </template>
    <p v-if="data.items.length" class="mt-2 text-xs text-soft">
      Behind it:
      <RouterLink v-for="one in data.items" :key="one.id" class="mr-2 text-slate hover:underline" :to="`/item/${one.id}`"
        ><span class="code">{{ one.number }}</span></RouterLink
      >
    </p>
    <div class="mt-3 flex flex-wrap gap-2">
      <template v-if="data.response_state === 'waits'"
        ><Btn kind="main" @click="settle(true)">Take {{ data.best ? money(data.best) : 'it' }}</Btn
        ><Btn @click="settle(false)">Leave as it is</Btn></template
      >
      <Btn v-if="data.response_state === 'sent' && data.old_price" @click="undo">{{
        data.old_price.amount === data.price.amount ? 'Take it back' : `Back to ${money(data.old_price)}`
      }}</Btn>
      <Btn @click="openHand">Set by hand</Btn>
      <Btn v-if="data.hand_price" @click="fix(null)">Let the rule set it</Btn>
      <Btn v-if="data.state === 'live'" @click="onSale(false)">Take off sale</Btn>
      <Btn v-else-if="data.state === 'paused'" @click="onSale(true)">Put on sale</Btn>
    </div>
    <template v-if="history">
      <h2 class="mt-5 mb-1">Price and cost over 60 days</h2>
      <StepChart :series="series" :from="from" :to="to" />
    </template>
    <Modal
      :open="hand"
      title="Set the price by hand"
      :message="`${data.sku}: it stays so until you let the rule set it again. A price that loses money is refused.`"
      @close="hand = false"
    >
      <label class="block"
        ><span class="label">Price in {{ data.price.currency }}</span
        ><input v-model="price" class="field" inputmode="decimal" maxlength="12" :aria-invalid="!!wrong" @keydown.enter="fix(price)"
      /></label>
      <label class="mt-3 block"
        ><span class="label">Why (kept in the log)</span><input v-model="reason" class="field" maxlength="300" @keydown.enter="fix(price)"
      /></label>
      <label class="mt-3 block"
        ><span class="label">Until the end of (empty = until you let the rule set it)</span
        ><input v-model="until" type="date" class="field w-44!"
      /></label>
      <p v-if="wrong" role="alert" class="mt-2 text-brick">{{ wrong }}</p>
      <template #acts><Btn @click="hand = false">Cancel</Btn><Btn kind="main" @click="fix(price)">Fix this price</Btn></template>
    </Modal>
  </div>
  <p v-else-if="!response && !listing" class="text-soft">Choose a row to see why its price is what it is.</p>
</template>
