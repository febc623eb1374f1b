<script setup lang="ts">
/** What to do more of, and what to stop: SKUs by what is at stake a day, luck told from skill. */
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import type { Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Pills from '@/parts/Pills.vue'
import RowTable from '@/parts/RowTable.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { count, fixed, money, number, percent } from '@/parts/format'
import { useRowKeys } from '@/parts/rowKeys'
import { rankingQuery, stepsQuery, useBooks } from './books'

type Row = Schema<'RankedOut'>
const { set, text } = useBooks()
const router = useRouter()
const group = computed(() => text('group'))
const asked = useQuery(computed(() => ({ ...rankingQuery(group.value), placeholderData: keepPreviousData })))
const { data } = asked
const NAMES: Record<string, string> = {
  loses: 'Loses money',
  comes_back: 'Comes back often',
  often_out: 'Often out of stock',
  rising: 'Rising',
  falling: 'Falling',
  never_sold: 'Never sold',
}
const pills = computed(() => {
  const counts = data.value?.counts ?? {}
  return [
    { key: '', label: 'To look at', count: Object.entries(counts).reduce((all, [key, n]) => all + (key === 'never_sold' ? 0 : n), 0) },
    ...Object.entries(NAMES).map(([key, label]) => ({ key, label, count: counts[key] ?? 0 })),
    { key: 'best', label: 'Earns most' },
  ]
})
const active = useRowKeys('Do more, do less', 'SKU', () => data.value?.rows.length ?? 0, [
  { key: 'a', message: 'do the best step', run: () => doStep() },
])
const row = computed<Row | undefined>(() => data.value?.rows[active.value])
const steps = useQuery(computed(() => ({ ...stepsQuery(row.value?.id ?? 0), enabled: !!row.value })))
// How many sales leave as much as now: fewer may be lost, more have to come.
const sales = (of: number | null | undefined) => {
  if (of == null) return '–'
  const more = Math.round(of / 10_000) - 100
  return more === 0 ? 'as now' : more < 0 ? `${percent(-more, 0)} fewer` : `${percent(more, 0)} more`
}
const doStep = () => row.value?.go && void router.push(row.value.go)
const TONES: Record<string, 'good' | 'loss' | 'plain'> = { rising: 'good', loses: 'loss', comes_back: 'loss', falling: 'loss' }
const surely = (one: Row) => percent(Math.max(one.chance, 1 - one.chance) * 100, 0)
</script>

<template>
  <div class="grid h-full grid-cols-[minmax(0,1fr)_300px] xl:grid-cols-[minmax(0,1fr)_340px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5">
      <div>
        <h1>Do more, do less</h1>
        <p class="text-soft">The last four weeks beside the four before, on days on sale alone; what a day's luck explains is not told.</p>
      </div>
      <Pills :options="pills" :pending="!data" :chosen="group" label="Which SKUs" @choose="(set({ group: $event }), (active = 0))" />
      <div class="sheet min-h-0 overflow-auto">
        <Sight
          :of="asked"
          :lines="8"
          :empty="!data?.rows.length"
          title="Nothing stands out"
          message="Rising and falling goods, loss makers and what is often out of stock are told here once enough was sold."
        >
          <RowTable
            v-slot="{ one }"
            :heads="['SKU', 'What it is', 'Sold', 'A unit leaves', 'Earns a day', 'At stake a day']"
            :right="[2, 3, 4, 5]"
            :rows="data!.rows"
            :key-of="(one) => one.id"
            :active="active"
            @choose="active = $event"
          >
            <th scope="row" class="max-w-64 px-2.5 font-normal">
              <span class="block truncate font-semibold" :title="one.title">{{ one.title }}</span><span class="code text-soft">{{
                one.code
              }}</span>
            </th>
            <td class="px-2.5">
              <Tag v-if="one.group" :tone="TONES[one.group] ?? 'plain'">{{ NAMES[one.group]!.toLowerCase() }}</Tag>
            </td>
            <td class="px-2.5 text-right">{{ count(one.units) }}</td>
            <td class="px-2.5 text-right" :class="number(one.unit) < 0 ? 'text-brick' : ''">{{ money(one.unit) }}</td>
            <td class="px-2.5 text-right" :class="number(one.a_day) < 0 ? 'text-brick' : ''">{{ money(one.a_day) }}</td>
            <td class="px-2.5 text-right font-bold" :class="number(one.worth) < 0 ? 'text-brick' : ''">
              {{ one.group && one.group !== 'never_sold' ? money(one.worth, true) : '–' }}
            </td>
          </RowTable>
        </Sight>
      </div>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="The SKU">
      <template v-if="row">
        <p class="code">{{ row.code }}</p>
        <h1 class="mt-0.5">{{ row.title }}</h1>
        <p class="mt-1.5 text-soft">{{ row.cause || 'Nothing about it asks for a step.' }}{{ row.cause ? '.' : '' }}</p>
        <table class="mt-3 w-full">
          <tr class="h-7 border-b border-rule-2">
            <th scope="row" class="font-normal">Sold in eight weeks</th>
            <td class="text-right">{{ count(row.units) }}</td>
          </tr>
          <tr class="h-7 border-b border-rule-2">
            <th scope="row" class="font-normal">Days on sale of the last 28</th>
            <td class="text-right">{{ row.days_on }}</td>
          </tr>
          <tr class="h-7 border-b border-rule-2">
            <th scope="row" class="font-normal">Expected sales a day</th>
            <td class="text-right">{{ fixed(row.pace, 2) }}</td>
          </tr>
          <tr class="h-7 border-b border-rule-2">
            <th scope="row" class="font-normal">A unit is expected to leave</th>
            <td class="text-right">{{ money(row.unit) }}</td>
          </tr>
          <tr class="h-7 border-b border-rule-2 font-bold">
            <th scope="row">It earns a day</th>
            <td class="text-right">{{ money(row.a_day) }}</td>
          </tr>
          <tr class="h-7">
            <th scope="row" class="font-normal">It left in eight weeks</th>
            <td class="text-right" :class="number(row.earned) < 0 ? 'text-brick' : ''">{{ money(row.earned) }}</td>
          </tr>
        </table>
        <p v-if="row.group === 'rising' || row.group === 'falling'" class="mt-2 text-xs text-soft">
          With a probability of {{ surely(row) }} it sells {{ row.group === 'rising' ? 'faster' : 'more slowly' }} than four weeks ago.
        </p>
        <Sight :of="steps" :lines="4">
          <template v-if="steps.data.value?.prices.length">
            <h2 class="mt-4">At another price, {{ steps.data.value.store }}</h2>
            <table class="mt-1 w-full">
              <tr class="h-7 border-b border-rule text-2xs text-soft">
                <th>Price</th>
                <th class="text-right">A unit leaves</th>
                <th class="text-right">More a day</th>
                <th class="text-right">Same with</th>
              </tr>
              <tr
                v-for="one in steps.data.value.prices"
                :key="one.price.amount"
                class="h-7 border-b border-rule-2"
                :class="one.sales === 1_000_000 ? 'font-bold' : ''"
              >
                <th scope="row" class="font-[inherit]">{{ money(one.price) }}</th>
                <td class="text-right" :class="number(one.unit) < 0 ? 'text-brick' : ''">{{ money(one.unit) }}</td>
                <td class="text-right" :class="number(one.a_day) < 0 ? 'text-brick' : ''">
                  {{ one.sales === 1_000_000 ? '' : money(one.a_day, true) }}
                </td>
                <td class="text-right text-soft">{{ sales(one.sales) }}</td>
              </tr>
            </table>
            <p class="mt-1 text-xs text-soft">
              A unit leaves: as planned at that price. More a day: at the expected sales. Same with: so many sales leave as much as now.
            </p>
          </template>
          <template v-if="(steps.data.value?.lanes.length ?? 0) > 1">
            <h2 class="mt-4">By another lane first</h2>
            <table class="mt-1 w-full">
              <tr class="h-7 border-b border-rule text-2xs text-soft">
                <th>Supplier</th>
                <th class="text-right">More a unit</th>
                <th class="text-right">More a day</th>
              </tr>
              <tr v-for="one in steps.data.value!.lanes" :key="one.lane" class="h-7 border-b border-rule-2">
                <th scope="row" class="max-w-40 truncate font-normal" :title="one.supplier">{{ one.supplier }}</th>
                <template v-if="one.priority === 0"><td colspan="2" class="text-right text-soft">main lane</td></template>
                <template v-else>
                  <td class="text-right" :class="number(one.unit) < 0 ? 'text-brick' : 'text-pine'">{{ money(one.unit, true) }}</td>
                  <td class="text-right" :class="number(one.a_day) < 0 ? 'text-brick' : 'text-pine'">{{ money(one.a_day, true) }}</td>
                </template>
              </tr>
            </table>
          </template>
        </Sight>
        <p class="mt-4 flex flex-wrap gap-2">
          <Btn v-if="row.step" kind="main" hint="A" @click="doStep">{{ row.step }}</Btn><RouterLink
            :to="`/books?view=profit&by=day&only=sku:${row.id}&named=${encodeURIComponent(row.title)}`"
            ><Btn>See its days</Btn></RouterLink
          >
        </p>
      </template>
      <p v-else class="text-soft">Choose a SKU to see how it earns.</p>
    </aside>
  </div>
</template>
