<script setup lang="ts">
/** One effect of a change of profit: the SKUs that made it, and what was done meanwhile. */
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { computed } from 'vue'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import { dateOf, money, plural } from '@/parts/format'
import { effectQuery, useBooks, type Effect } from './books'

const props = defineProps<{ effect: Effect }>()
const { query, set } = useBooks()
const asked = useQuery(computed(() => ({ ...effectQuery(props.effect, query.value), placeholderData: keepPreviousData })))
const { data } = asked
const HEADS: Record<Effect, [string, string]> = {
  new: ['Newly sold goods brought', 'Newly sold goods cost'],
  ended: ['Goods that ended saved', 'Goods that ended took away'],
  volume: ['More units brought', 'Fewer units cost'],
  mix: ['A better mix brought', 'A worse mix cost'],
  price: ['Higher prices brought', 'Lower prices cost'],
  cost: ['Goods and sending cost less by', 'Goods and sending cost more by'],
  fees: ['Fees took less by', 'Fees took more by'],
  other: ['Refunds and the rest brought', 'Refunds and the rest cost'],
}
const less = computed(() => data.value?.amount.amount.startsWith('-') ?? false)
const plain = computed(() => (data.value ? money({ ...data.value.amount, amount: data.value.amount.amount.replace('-', '') }) : ''))
const steps: Partial<Record<Effect, { label: string; to: string }[]>> = {
  cost: [{ label: 'See what suppliers changed', to: '/watch' }],
  price: [{ label: 'See every price and why', to: '/price?view=listings' }],
  fees: [{ label: 'See what stores take', to: '/price?view=fees' }],
  ended: [{ label: 'See what is paused', to: '/shelf' }],
}
</script>

<template>
  <Sight :of="asked" :lines="8">
    <p class="code">{{ data!.effect }} {{ money(data!.amount, true) }}</p>
    <h1 class="mt-0.5">{{ HEADS[effect][less ? 1 : 0] }} {{ plain }}</h1>
    <p class="mt-1 text-soft">{{ data!.sentence }}</p>
    <template v-if="data!.parts.length">
      <h2 class="mt-4">By SKU</h2>
      <table class="mt-1 w-full">
        <tr v-for="one in data!.parts.slice(0, 8)" :key="one.sku" class="border-b border-rule-2">
          <th scope="row" class="max-w-44 py-1.5 font-normal">
            <button
              type="button"
              class="block max-w-full truncate text-left hover:underline"
              :title="one.title"
              :disabled="!one.sku"
              @click="set({ view: 'profit', by: 'day', only: `sku:${one.sku}`, named: one.title })"
            >
              {{ one.title }}
            </button>
            <span class="code text-soft">{{ one.code }}</span>
          </th>
          <td class="py-1.5 text-right font-bold whitespace-nowrap">{{ money(one.amount, true) }}</td>
        </tr>
        <tr v-if="data!.parts.length > 8 || data!.more">
          <th scope="row" class="py-1.5 font-normal">{{ plural(data!.parts.length - 8 + data!.more, 'more SKU') }}</th>
          <td />
        </tr>
      </table>
    </template>
    <template v-if="data!.acts.length">
      <h2 class="mt-4">What happened meanwhile</h2>
      <table class="mt-1 w-full">
        <tr v-for="(one, n) in data!.acts" :key="n" class="border-b border-rule-2 align-top">
          <td class="w-24 py-1.5 whitespace-nowrap text-soft">{{ dateOf(one.at) }}</td>
          <td class="py-1.5">{{ one.message }}</td>
        </tr>
      </table>
    </template>
    <p class="mt-4 flex flex-wrap gap-2">
      <RouterLink v-for="one in steps[effect] ?? []" :key="one.to" :to="one.to"
        ><Btn>{{ one.label }}</Btn></RouterLink
      >
    </p>
  </Sight>
</template>
