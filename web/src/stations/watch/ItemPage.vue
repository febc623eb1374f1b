<script setup lang="ts">
/** Everything about one supplier item over time, and all listings behind it. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { api, take } from '@/api/client'
import { live } from '@/app/live'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import LaneGlyph from '@/parts/LaneGlyph.vue'
import StepChart from '@/parts/StepChart.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { amountOf, count, dateOf, money, number, plural, timeOf } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { home } from '@/parts/home'
import { itemPageQuery } from './queries'

const route = useRoute()
const id = computed(() => Number(route.params.id))
const asked = useQuery(computed(() => ({ ...itemPageQuery(id.value), enabled: Number.isInteger(id.value) && id.value > 0, retry: false })))
const { data } = asked
const believed = computed(() => (data.value?.points ?? []).filter((p) => ['start', 'good', 'gone'].includes(p.verdict)))
const show = (value: number) => amountOf(value, data.value?.cost.currency ?? home.value)
const series = computed(() => [
  { name: 'cost', tone: 'brick' as const, show, points: believed.value.map((p) => ({ at: Date.parse(p.at), value: number(p.cost) })) },
  {
    name: 'stock',
    tone: 'ink' as const,
    show: (value: number) => count(value),
    points: believed.value.filter((p) => p.stock >= 0).map((p) => ({ at: Date.parse(p.at), value: p.stock })),
  },
])
const from = computed(() => (data.value ? Date.parse(data.value.since) : 0))
const to = computed(() => live.now.value)
const facts = computed(() => {
  const one = data.value
  if (!one) return []
  return [
    ['Costs', money(one.cost) + (one.pack > 1 ? ` a pack of ${one.pack}` : '')],
    ...one.tiers.map((tier) => [`From ${tier.at}`, money(tier.cost)]),
    ['In stock', one.stock < 0 ? 'not told' : count(one.stock)],
    ['Looked at', one.looks],
    ['Options', one.options],
    ['Maker', [one.brand, one.mpn].filter(Boolean).join(', ')],
    ['Barcode', one.gtin],
    ['Weight', one.weight_g ? `${count(one.weight_g)} g` : ''],
    ['Category', one.category],
  ].filter(([, value]) => value) as [string, string][]
})
const rows = computed(() =>
  (data.value?.points ?? [])
    .filter((p) => p.verdict !== 'start')
    .slice(-60)
    .reverse(),
)
const VERDICT: Record<string, { tone: 'good' | 'waits' | 'loss' | 'plain'; text: string }> = {
  good: { tone: 'good', text: 'believed' },
  doubted: { tone: 'waits', text: 'doubted' },
  refused: { tone: 'loss', text: 'refused' },
  gone: { tone: 'plain', text: 'gone' },
  held: { tone: 'waits', text: 'held with its sweep' },
}
const settle = (believe: boolean) =>
  act(() => take(api.POST('/api/v1/watch/doubts/{item}', { params: { path: { item: id.value } }, body: { believe } })))
const STATE: Record<string, string> = { live: 'on sale', paused: 'paused' }
</script>

<template>
  <div class="grid h-full grid-cols-[minmax(0,1fr)_372px]">
    <section class="min-w-0 overflow-auto p-4.5">
      <Sight :of="asked" :lines="8" />
      <template v-if="data">
        <p class="text-soft">
          <RouterLink to="/watch" class="text-slate hover:underline">Watch</RouterLink> · {{ data.supplier
          }}{{ data.origin ? `, ${data.origin}` : '' }} · <span class="code">{{ data.number }}</span>
        </p>
        <h1 class="mt-0.5">{{ data.title }}</h1>
        <p v-if="data.offer !== 'good'" class="mt-1">
          <Tag :tone="data.offer === 'doubted' ? 'waits' : 'loss'">{{ data.offer === 'doubted' ? 'in doubt' : 'sold no more' }}</Tag>
        </p>
        <div v-if="data.doubt_cost" class="mt-2 flex max-w-3xl items-center gap-3 rounded bg-amber-wash px-3 py-2 text-amber-ink">
          <span class="flex-1"
            >{{ money(data.doubt_cost) }} was seen{{ data.doubt_seen > 0 ? `, ${plural(data.doubt_seen, 'time')} again` : '' }}; the last
            good cost of {{ money(data.cost) }} stands until you say.</span
          ><Btn small kind="main" @click="settle(false)">Keep {{ money(data.cost) }}</Btn
          ><Btn small @click="settle(true)">Use the new cost</Btn>
        </div>
        <div class="sheet mt-3 p-4">
          <h2 class="mb-2">
            60 days: {{ plural(data.changes, 'change')
            }}<span class="font-normal text-soft">, last seen <When :at="data.seen_at ?? data.since" ago /></span>
          </h2>
          <StepChart :series="series" :from="from" :to="to" />
        </div>
        <h2 class="mt-4 mb-1.5">{{ plural(data.listings.length, 'listing') }} behind it</h2>
        <div class="sheet overflow-hidden">
          <table v-if="data.listings.length" class="w-full">
            <thead>
              <tr class="h-8 border-b border-rule text-2xs text-soft">
                <th class="px-3">Listing</th>
                <th class="px-3">Lane</th>
                <th class="px-3">State</th>
                <th class="px-3 text-right">Price</th>
                <th class="px-3 text-right">Landed</th>
                <th class="px-3 text-right">Profit</th>
                <th class="px-3 text-right">Shows</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="one in data.listings" :key="`${one.listing}-${one.use}`" class="h-11 border-b border-rule-2 last:border-0">
                <td class="px-3">
                  <RouterLink
                    class="block max-w-72 truncate font-semibold hover:underline"
                    :title="one.title"
                    :to="{ path: '/price', query: { view: 'listings', words: one.sku } }"
                    >{{ one.title }}</RouterLink><span class="cell-2"
                    ><span class="code">{{ one.sku }}</span> {{ one.store }}</span
                  >
                </td>
                <td class="px-3">
                  <LaneGlyph :state="one.lane" /><span class="ml-1.5 text-xs text-soft">{{
                    one.use ? `spare ${one.use}` : one.here ? 'main, in use' : 'main'
                  }}</span>
                </td>
                <td class="px-3">
                  <Tag :tone="one.state === 'live' ? 'good' : 'plain'">{{ STATE[one.state] ?? one.state }}</Tag>
                </td>
                <td class="px-3 text-right">{{ money(one.price) }}</td>
                <td class="px-3 text-right">{{ money(one.landed) }}</td>
                <td class="px-3 text-right" :class="number(one.profit) < 0 ? 'font-bold text-brick' : ''">{{ money(one.profit) }}</td>
                <td class="px-3 text-right">{{ one.quantity }}</td>
              </tr>
            </tbody>
          </table>
          <p v-else class="p-4 text-soft">
            No lane uses it. <RouterLink class="text-slate hover:underline" to="/lanes">Open one in Lanes</RouterLink>.
          </p>
        </div>
      </template>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="What is known of it">
      <template v-if="data">
        <h2>What is known of it</h2>
        <dl class="mt-1.5 grid grid-cols-[110px_1fr] gap-y-1">
          <template v-for="[name, value] in facts" :key="name"
            ><dt class="text-soft">{{ name }}</dt>
            <dd>{{ value }}</dd></template
          >
        </dl>
        <h2 class="mt-5">What sweeps saw</h2>
        <table v-if="rows.length" class="mt-1 w-full">
          <thead>
            <tr class="h-7 border-b border-rule text-2xs text-soft">
              <th>When</th>
              <th class="text-right">Cost</th>
              <th class="text-right">Stock</th>
              <th class="pl-3" />
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in rows" :key="one.at + one.verdict" class="h-7 border-b border-rule-2">
              <td class="text-xs text-soft">{{ dateOf(one.at) }}, {{ timeOf(one.at) }}</td>
              <td class="text-right">{{ money(one.cost) }}</td>
              <td class="text-right">{{ one.stock < 0 ? '–' : count(one.stock) }}</td>
              <td class="pl-3">
                <Tag v-if="one.verdict !== 'good'" :tone="VERDICT[one.verdict]?.tone ?? 'plain'">{{
                  VERDICT[one.verdict]?.text ?? one.verdict
                }}</Tag>
              </td>
            </tr>
          </tbody>
        </table>
        <p v-else class="mt-1 text-soft">Nothing about it changed in 60 days.</p>
      </template>
    </aside>
  </div>
</template>
