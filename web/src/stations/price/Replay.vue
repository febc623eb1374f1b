<script setup lang="ts">
/** Two sets of rules run over the past weeks' sightings and orders, side by side. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Pills from '@/parts/Pills.vue'
import { count, money, number, percent, plural, dayOf } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import RuleForm from './RuleForm.vue'
import { asks, band, limits, type Rule } from './rules'
import { keptDraft } from './draft'
import { homeMoney } from '@/parts/home'
import LeftOut from '@/parts/LeftOut.vue'
import { policyQuery, rulesQuery } from './queries'

type Side = Schema<'ReplaySide'>
const { data: real } = useQuery(rulesQuery())
const { data: policy } = useQuery(policyQuery())
const days = ref('28')
const SPANS = [
  { key: '14', label: '2 weeks' },
  { key: '28', label: '4 weeks' },
  { key: '60', label: '60 days' },
]
/** What the second set says otherwise. */
const SETS = [
  { key: 'rules', label: 'Other rules' },
  { key: 'limits', label: 'Other limits' },
  { key: 'none', label: 'Nothing followed' },
]
const set = ref('rules')
const rules = computed(() => keptDraft.value ?? real.value ?? [])
const house = computed(() => rules.value.filter((rule) => rule.scope === 'house').sort((a, b) => (a.band_from ?? 0) - (b.band_from ?? 0)))
const editing = ref<Rule | null | undefined>(undefined)
function save(rule: Rule | null) {
  const rest = rules.value.filter(
    (one) => one !== editing.value && !(rule && one.scope === rule.scope && (one.band_from ?? 0) === (rule.band_from ?? 0)),
  )
  keptDraft.value = rule ? [...rest, rule] : rest
  editing.value = undefined
}
const LIMITS = [
  ['cushion', "Keep back from the supplier's stock"],
  ['cap', 'Show at most'],
  ['pause_at', 'Pause when it would show at most'],
  ['resume_at', 'Come back when there are at least'],
  ['resume_sweeps', 'seen in so many sweeps running'],
] as const
const typed = ref<Record<string, string>>({})
const fields = computed(() =>
  Object.fromEntries(LIMITS.filter(([name]) => /^\d+$/.test(typed.value[name] ?? '')).map(([name]) => [name, Number(typed.value[name])])),
)
const other = computed<Schema<'WhatIfAsk'> | null>(() =>
  set.value === 'rules'
    ? { rules: rules.value }
    : set.value === 'limits'
      ? { policy: { scope: 'house', key: '', fields: fields.value } }
      : { policy: { scope: 'house', key: '', fields: { follow_price: false, follow_stock: false } } },
)
/** Of a small house at once; of a large one by a job, which is stopped when something else is asked. */
const share = ref<number | null>(null)
async function run(span: number, against: Schema<'WhatIfAsk'> | null, signal: AbortSignal): Promise<Schema<'ReplayOut'>> {
  const begun = await take(api.POST('/api/v1/prices/replay', { body: { days: span, other: against } }))
  if (begun.out) return begun.out
  const path = { number: begun.job! }
  try {
    for (;;) {
      const job = await take(api.GET('/api/v1/jobs/{number}', { params: { path } }))
      if (job.state === 'done') return job.result as Schema<'ReplayOut'>
      if (job.state !== 'waiting' && job.state !== 'running') throw new Error(job.message)
      share.value = job.done
      await new Promise((next) => setTimeout(next, 400))
      if (signal.aborted) {
        void api.POST('/api/v1/jobs/{number}/stop', { params: { path } })
        throw new Error('stopped')
      }
    }
  } finally {
    share.value = null
  }
}
const asked = useQuery({
  queryKey: computed(() => ['replay', days.value, other.value]),
  queryFn: ({ signal }) => run(Number(days.value), other.value, signal),
  enabled: computed(() => !!real.value),
  placeholderData: (before) => before,
  meta: { live: false },
  retry: false,
})
const { data, isFetching } = asked
/** What each side comes to; whether more of it is better, null where that says nothing by itself. */
const ROWS: [string, (side: Side) => string, (side: Side) => number, boolean | null][] = [
  ['Order lines of that time', (s) => count(s.lines), (s) => s.lines, null],
  ['Sold', (s) => count(s.sold), (s) => s.sold, true],
  ['Not on sale when it was wanted', (s) => count(s.missed), (s) => s.missed, false],
  [
    'Sold without stock, refunded',
    (s) => `${count(s.oversold)}${s.oversold ? `, ${money(s.refunds).replace('−', '')} lost` : ''}`,
    (s) => s.oversold,
    false,
  ],
  ['Sold at a loss', (s) => `${count(s.at_loss)}${s.at_loss ? `, ${money(s.lost).replace('−', '')} lost` : ''}`, (s) => s.at_loss, false],
  ['Price changes', (s) => count(s.moves), (s) => s.moves, null],
  ['Pauses', (s) => count(s.pauses), (s) => s.pauses, null],
  ['Of the time on sale', (s) => percent(s.live * 100), (s) => s.live, null],
]
const gain = computed(() => (data.value ? number(data.value.other.earned) - number(data.value.one.earned) : 0))
const signed = (value: number) => homeMoney(value, true)
const top = computed(() => Math.max(1, ...(data.value ? [...data.value.one.days, ...data.value.other.days] : [])))
const dayName = (n: number) => dayOf(new Date(Date.parse(data.value!.since) + n * 86_400_000).toISOString())
</script>

<template>
  <div class="grid grid-cols-[340px_minmax(0,1fr)] overflow-hidden">
    <div v-if="editing !== undefined" class="overflow-auto border-r border-rule bg-sheet">
      <RuleForm :rule="editing" :exception="false" @close="editing = undefined" @save="save" />
    </div>
    <section v-else class="overflow-auto border-r border-rule bg-sheet p-4" aria-label="The two sets">
      <h1>Replay</h1>
      <p class="text-xs text-soft">
        What the past weeks would have been: every sighting and every order of that time again, under the rules as they are and under
        another set. Nothing is changed by it.
      </p>
      <h2 class="mt-4 mb-1.5">How far back</h2>
      <Pills :options="SPANS" :chosen="days" label="How far back" @choose="days = $event" />
      <h2 class="mt-4 mb-1.5">The other set</h2>
      <Pills :options="SETS" :chosen="set" label="The other set" @choose="set = $event" />
      <ul v-if="set === 'rules'" class="mt-3 border-t border-rule-2">
        <li v-for="(rule, n) in house" :key="rule.band_from ?? 0">
          <button type="button" class="block w-full border-b border-rule-2 py-2 text-left hover:bg-shade" @click="editing = rule">
            <span class="text-xs text-soft"
              >Landed cost <b class="text-ink">{{ band(house, n) }}</b></span
            ><span class="block"
              ><b>{{ asks(rule) }}</b
              ><template v-for="part in limits(rule)" :key="part">, {{ part }}</template></span
            >
          </button>
        </li>
      </ul>
      <p v-if="set === 'rules'" class="mt-2 text-xs text-soft">
        The draft is the same as under Rules and what if. <Btn v-if="keptDraft" small kind="link" @click="keptDraft = null">Remove it</Btn>
      </p>
      <div v-else-if="set === 'limits'" class="mt-3">
        <label
          v-for="[name, label] in LIMITS"
          :key="name"
          class="flex h-9 items-center justify-between gap-3 border-b border-rule-2 last:border-0"
          ><span>{{ label }}</span
          ><input
            v-model="typed[name]"
            class="field w-16! text-right"
            inputmode="numeric"
            maxlength="5"
            :placeholder="String(policy?.fields[name] ?? '')"
        /></label>
      </div>
      <p v-else class="mt-3 text-soft">
        As if nobody had watched: prices and quantities stay as they were on the first day. It shows what following is worth.
      </p>
    </section>
    <section class="min-w-0 overflow-auto p-4.5" aria-label="What would have been">
      <p v-if="share !== null" class="mb-2 flex items-center gap-3 text-soft" role="status">
        Every sighting and every order of that time again: {{ share }} %
        <progress class="h-1.5 w-40 accent-pine" max="100" :value="share" aria-label="Replay" />
      </p>
      <Sight :of="asked" :lines="8" />
      <template v-if="data">
        <div class="flex items-baseline gap-3" :class="isFetching ? 'opacity-60' : ''">
          <h1>
            {{
              gain === 0
                ? 'The two come to the same'
                : `The other set earns ${signed(Math.abs(gain)).replace('+', '')} ${gain < 0 ? 'less' : 'more'}`
            }}
          </h1>
          <p class="text-soft">over {{ plural(data.one.days.length, 'day') }}, {{ plural(data.one.listings, 'listing') }}</p>
        </div>
        <LeftOut :of="data.left_out ?? []" />
        <table class="sheet mt-3 w-full max-w-3xl">
          <thead>
            <tr class="h-9 border-b border-rule text-2xs text-soft">
              <th class="px-3" />
              <th class="px-3 text-right">As it stands</th>
              <th class="px-3 text-right">The other set</th>
            </tr>
          </thead>
          <tbody>
            <tr class="h-10 border-b border-rule-2">
              <th scope="row" class="px-3 text-left font-bold">Earned, all costs and refunds counted</th>
              <td class="px-3 text-right font-bold">{{ money(data.one.earned) }}</td>
              <td class="px-3 text-right font-bold" :class="gain < 0 ? 'text-brick' : gain > 0 ? 'text-pine' : ''">
                {{ money(data.other.earned) }}
              </td>
            </tr>
            <tr v-for="[label, tell, value, more] in ROWS" :key="label" class="h-8 border-b border-rule-2 last:border-0">
              <th scope="row" class="px-3 text-left font-normal">{{ label }}</th>
              <td class="px-3 text-right">{{ tell(data.one) }}</td>
              <td
                class="px-3 text-right"
                :class="
                  more === null || value(data.other) === value(data.one)
                    ? ''
                    : value(data.other) > value(data.one) === more
                      ? 'text-pine'
                      : 'text-brick'
                "
              >
                {{ tell(data.other) }}
              </td>
            </tr>
          </tbody>
        </table>
        <div class="sheet mt-3 max-w-3xl p-3.5">
          <p class="flex gap-4">
            <b>Earned by day</b
            ><span class="text-xs text-soft"><span class="mr-1 inline-block size-2.5 bg-faint" aria-hidden="true" />as it stands</span
            ><span class="text-xs text-soft"><span class="mr-1 inline-block size-2.5 bg-pine" aria-hidden="true" />the other set</span>
          </p>
          <ol class="mt-2 flex h-24 items-end gap-[2px]" aria-label="Earned by day">
            <li
              v-for="(value, n) in data.one.days"
              :key="n"
              class="flex h-full min-w-0 flex-1 items-end"
              :title="`${dayName(n)}: ${signed(value)} as it stands, ${signed(data.other.days[n] ?? 0)} by the other set`"
            >
              <span class="flex-1 bg-faint" :style="{ height: `${(Math.max(value, 0) / top) * 100}%` }" /><span
                class="flex-1 bg-pine"
                :style="{ height: `${(Math.max(data.other.days[n] ?? 0, 0) / top) * 100}%` }"
              />
            </li>
          </ol>
          <p class="mt-1 flex justify-between text-2xs text-soft">
            <span>{{ dayName(0) }}</span><span>{{ dayName(data.one.days.length - 1) }}</span>
          </p>
        </div>
        <table v-if="data.movers.length" class="sheet mt-3 w-full max-w-3xl">
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-3">Differs most</th>
              <th class="px-3 text-right">As it stands</th>
              <th class="px-3 text-right">The other set</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data.movers.slice(0, 20)" :key="one.listing" class="h-9 border-b border-rule-2 last:border-0">
              <td class="max-w-96 truncate px-3" :title="one.title">
                <span class="code mr-2 text-soft">{{ one.sku }}</span>{{ one.title }}
              </td>
              <td class="px-3 text-right">{{ money(one.one) }}</td>
              <td class="px-3 text-right" :class="number(one.other) < number(one.one) ? 'text-brick' : 'text-pine'">
                {{ money(one.other) }}
              </td>
            </tr>
          </tbody>
        </table>
        <p class="mt-2 max-w-3xl text-xs text-soft">
          Buyers are taken to buy as they did, whatever the price. Lanes, fees and rates are those of today; an item is as it was last seen,
          and what was seen within half a sweep after an order is taken to have been true at it.
        </p>
      </template>
    </section>
  </div>
</template>
