<script setup lang="ts">
/** One load in full: steps, lines with what was counted, cartons and papers, and what can be done now. */
import { ref } from 'vue'
import { ROOT, api, take } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Tag from '@/parts/Tag.vue'
import { count, dateOf, fixed, inField, money, number, plainOf, plural } from '@/parts/format'
import { useForm } from '@/parts/form'
import LoadSteps from './LoadSteps.vue'
import { countAgain, dropLoad, loadLeft, orderLoad, paper, settle, type Load, type LoadLine } from './depot'

const props = defineProps<{ load: Load }>()
const { error, busy, sendAct } = useForm()
const counting = ref(false)
const counts = ref<Record<number, { units: number; damaged: number }>>({})
function begin() {
  counts.value = Object.fromEntries(props.load.lines.map((one) => [one.held, { units: one.counted ?? one.units, damaged: one.damaged }]))
  counting.value = true
}
const save = () =>
  sendAct(
    () =>
      take(
        api.POST('/api/v1/depot/loads/{number}/count', {
          params: { path: { number: props.load.id } },
          body: {
            version: props.load.version,
            lines: Object.entries(counts.value).map(([held, one]) => ({ held: Number(held), ...one, note: '' })),
          },
        }),
      ),
    () => (counting.value = false),
  )
const back = ref<LoadLine | null>(null)
const amount = ref('')
const moneyBack = () =>
  sendAct(
    () => {
      const one = back.value!
      return take(
        api.POST('/api/v1/depot/lines/{number}/money-back', {
          params: { path: { number: one.id } },
          body: { version: one.version, amount: { amount: plainOf(amount.value), currency: one.cost.currency } },
        }),
      )
    },
    () => (back.value = null),
  )
</script>

<template>
  <div>
    <p class="code">{{ load.reference }}</p>
    <h1 class="mt-0.5">{{ plural(load.units, 'unit') }} {{ load.own ? 'sent by us' : `from ${load.sender}` }}</h1>
    <p class="text-soft">
      to {{ load.depot }}<template v-if="load.due && load.state !== 'counted'">, due {{ dateOf(load.due) }}</template
      ><template v-if="load.tracking">, {{ load.tracking }}</template>
    </p>
    <LoadSteps :load="load" class="mt-3" />
    <p v-if="load.message" class="mt-2 rounded bg-amber-wash px-2.5 py-1.5 text-amber-ink">{{ load.message }}</p>
    <p class="mt-3 flex flex-wrap gap-2">
      <Btn v-if="load.state === 'planned'" kind="main" @click="orderLoad(load)">{{ load.own ? 'It is on its way' : 'Order it' }}</Btn>
      <Btn v-if="load.state === 'ordered' && !load.own && !load.sender_calls" small @click="loadLeft(load)">They have sent it</Btn>
      <Btn v-if="['planned', 'refused'].includes(load.state)" @click="dropLoad(load)">Drop it</Btn>
      <Btn v-if="load.depot_calls && load.state === 'counted' && load.lines.some((one) => one.difference)" small @click="countAgain(load)"
        >Ask to count again</Btn
      >
      <Btn v-if="!load.depot_calls && ['ordered', 'on_the_way', 'at_gate', 'counted'].includes(load.state)" small @click="begin"
        >Enter what they counted</Btn
      >
    </p>
    <h2 class="mt-4">What is in it</h2>
    <ul>
      <li v-for="one in load.lines" :key="one.id" class="border-b border-rule-2 py-2">
        <p class="flex gap-2">
          <span class="min-w-0 flex-1 truncate" :title="one.title"
            ><b>{{ one.title }}</b></span
          ><span>{{ count(one.units) }}</span
          ><span class="w-20 text-right">{{ money(one.cost) }}</span>
        </p>
        <p class="text-xs text-soft">
          <span class="code">{{ one.sku }}</span><template v-if="one.lot"> · lot {{ one.lot }}</template
          ><template v-if="one.best_before"> · best before {{ one.best_before }}</template>
        </p>
        <template v-if="one.difference">
          <p class="mt-1 text-brick">{{ one.difference }}</p>
          <a
            v-if="one.picture"
            :href="`${ROOT}/api/v1/shelf/pictures/${one.picture}`"
            target="_blank"
            rel="noopener"
            class="mt-1 inline-block"
            ><img
              :src="`${ROOT}/api/v1/shelf/pictures/${one.picture}`"
              alt="The depot's picture of the damage"
              class="h-20 rounded border border-rule"
          /></a>
          <p v-if="!one.settled" class="mt-1.5 flex flex-wrap gap-2">
            <Btn v-if="one.lost && Number(one.lost.amount)" small @click="settle(one, 'claim')">Claim {{ money(one.lost) }}</Btn
            ><Btn small @click="settle(one, 'written_off')">{{ one.lost && Number(one.lost.amount) ? 'Write off' : 'Right so' }}</Btn>
          </p>
          <p v-else class="mt-1 text-xs text-soft">
            <template v-if="one.settled === 'claim'"
              >{{ money(one.claimed) }} asked back<template v-if="one.came_back">, {{ money(one.came_back) }} came</template>
              <Btn v-if="one.money_back" small kind="link" @click="((back = one), (amount = inField(one.claimed?.amount)))"
                >Money came back</Btn
              ></template
            ><Tag v-else tone="plain">written off</Tag>
          </p>
        </template>
        <p v-else-if="one.counted !== null" class="mt-0.5 text-xs text-pine">{{ count(one.counted) }} counted, all right</p>
      </li>
    </ul>
    <p v-if="!load.own" class="mt-2 text-soft">
      Goods {{ money(load.goods) }}, freight {{ money(load.freight) }} by {{ load.service
      }}{{ number(load.taking_in) ? `, taking in ${money(load.taking_in)}` : ''
      }}{{ load.billed && load.billed.amount !== '' ? `; billed ${money(load.billed)}` : '' }}
    </p>
    <form v-if="counting" class="mt-3 rounded border border-rule p-3" @submit.prevent="save">
      <h2>What they counted</h2>
      <div v-for="one in load.lines" :key="one.held" class="mt-2 grid grid-cols-[1fr_80px_80px] items-end gap-2">
        <span class="truncate" :title="one.title">{{ one.title }}</span>
        <label
          ><span class="label">Right</span><input v-model.number="counts[one.held]!.units" type="number" min="0" class="field text-right"
        /></label>
        <label
          ><span class="label">Damaged</span
          ><input v-model.number="counts[one.held]!.damaged" type="number" min="0" class="field text-right"
        /></label>
      </div>
      <p class="mt-3 flex justify-end gap-2">
        <Btn small @click="counting = false">Cancel</Btn><Btn small kind="main" :disabled="busy" @click="save">Save the count</Btn>
      </p>
    </form>
    <form v-if="back" class="mt-3 flex items-end gap-2 rounded border border-rule p-3" @submit.prevent="moneyBack">
      <label class="flex-1"
        ><span class="label">Came back for {{ back.sku }}, {{ back.cost.currency }}</span
        ><input v-model="amount" class="field text-right" inputmode="decimal" /></label
      ><Btn small @click="back = null">Cancel</Btn><Btn small kind="main" :disabled="busy" @click="moneyBack">Save</Btn>
    </form>
    <p v-if="error" role="alert" class="mt-2 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <h2 class="mt-4">Papers</h2>
    <p class="mt-1 flex flex-wrap gap-x-4 gap-y-1">
      <a class="font-semibold text-slate hover:underline" :href="paper(load, 'labels')" target="_blank" rel="noopener">Carton labels</a>
      <a class="font-semibold text-slate hover:underline" :href="paper(load, 'labels', true)" target="_blank" rel="noopener"
        >Labels on A4</a
      >
      <a class="font-semibold text-slate hover:underline" :href="paper(load, 'packing')" target="_blank" rel="noopener">Packing list</a>
      <a class="font-semibold text-slate hover:underline" :href="paper(load, 'despatch')">Despatch advice</a>
    </p>
    <details class="mt-2">
      <summary class="cursor-pointer text-soft">{{ plural(load.cartons.length, 'carton') }}</summary>
      <p v-for="(one, n) in load.cartons" :key="one.sscc" class="mt-1 text-xs">
        {{ n + 1 }}. <span class="code">{{ one.sscc }}</span> · {{ fixed(one.weight_g / 1000, 1) }} kg · {{ one.holds.join(', ') }}
      </p>
    </details>
  </div>
</template>
