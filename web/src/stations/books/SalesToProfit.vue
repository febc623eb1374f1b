<script setup lang="ts">
/** The fall from what buyers paid to the profit, of the whole period. */
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { computed } from 'vue'
import type { Money, Schema } from '@/api/client'
import Sight from '@/parts/Sight.vue'
import Waterfall from '@/parts/Waterfall.vue'
import { count, money, number, percent } from '@/parts/format'
import { profitQuery, useBooks } from './books'

const { query, told } = useBooks()
const asked = useQuery(
  computed(() => ({
    ...profitQuery({ ...query.value, by: 'store', sort: 'profit', down: true, limit: 1 }),
    placeholderData: keepPreviousData,
  })),
)
const total = computed(() => asked.data.value?.total)
const STEPS: [keyof Schema<'FiguresOut'>, string][] = [
  ['tax', 'Tax'],
  ['fees', 'Fees'],
  ['goods', 'Goods'],
  ['sending', 'Sending'],
  ['refunds', 'Refunds'],
  ['claims', 'Rebates, claims'],
  ['below', 'Fixed costs'],
]
const steps = computed<Schema<'StepOut'>[]>(() => {
  const now = total.value?.now
  if (!now) return []
  const falls = STEPS.map(([key, name]) => ({ name, amount: now[key] as Money, kind: 'step' })).filter((one) => number(one.amount))
  return [{ name: 'Buyers paid', amount: now.sales, kind: 'total' }, ...falls, { name: 'Profit', amount: now.profit, kind: 'total' }]
})
</script>

<template>
  <div>
    <h1>From sales to profit</h1>
    <p class="text-soft">{{ told }}</p>
    <Sight :of="asked" :lines="8">
      <div class="mt-3"><Waterfall :steps="steps" /></div>
      <table v-if="total" class="mt-4 w-full">
        <tr class="h-7 border-b border-rule-2">
          <th scope="row" class="font-normal">Orders</th>
          <td class="text-right">{{ count(total.now.orders) }}</td>
        </tr>
        <tr class="h-7 border-b border-rule-2">
          <th scope="row" class="font-normal">Margin</th>
          <td class="text-right">{{ percent(total.now.margin === null ? null : total.now.margin / 10_000) }}</td>
        </tr>
        <tr class="h-7 border-b border-rule-2">
          <th scope="row" class="font-normal">Planned at buying</th>
          <td class="text-right">{{ money(total.now.planned) }}</td>
        </tr>
        <tr class="h-7">
          <th scope="row" class="font-normal">The other period</th>
          <td class="text-right">{{ money(total.before.profit) }}</td>
        </tr>
      </table>
      <p class="mt-3 text-xs text-soft">Choose a figure in the table to see the entries that it is the sum of.</p>
    </Sight>
  </div>
</template>
