<script setup lang="ts">
/** An order's money as it was planned when it was bought, beside what it came to, each difference with its reason. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { money, number } from '@/parts/format'
import { BASES, KINDS, orderQuery } from '@/stations/books/books'

const props = defineProps<{ order: number }>()
const { data } = useQuery(computed(() => orderQuery(props.order)))
const differs = computed(() => data.value?.parts.some((one) => one.reasons.length) ?? false)
/** What the store did not tell of the order's money, and what is done about it. */
const silent = computed(() => {
  const all = data.value?.untold ?? []
  const nought = [all.includes('shipping_paid') && 'sending', all.includes('discount') && 'discounts'].filter(Boolean).join(' and ')
  const told = [nought && `it tells nothing of ${nought}, so none are counted`, all.includes('tax') && 'tax is worked out as set for it']
  return all.length ? `Of its store: ${told.filter(Boolean).join('; ')}.` : ''
})
</script>

<template>
  <table v-if="data?.parts.length" class="mt-1 w-full border-t border-rule">
    <thead>
      <tr class="h-7 text-2xs text-soft">
        <th class="px-3.5">By the journal</th>
        <th class="px-2 text-right">Planned</th>
        <th class="px-2 text-right">As it came</th>
        <th class="px-3.5">{{ differs ? 'Why it differs' : '' }}</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in data.parts" :key="one.kind" class="h-7 border-t border-rule-2">
        <th scope="row" class="px-3.5 font-normal">{{ KINDS[one.kind] ?? one.kind }}</th>
        <td class="px-2 text-right">{{ money(one.planned) }}</td>
        <td class="px-2 text-right">{{ money(one.actual) }}</td>
        <td class="px-3.5 text-soft">
          <span v-for="why in one.reasons" :key="why.basis" class="mr-3"
            >{{ BASES[why.basis] }} <b :class="number(why.amount) < 0 ? 'text-brick' : 'text-ink'">{{ money(why.amount, true) }}</b></span
          >
        </td>
      </tr>
      <tr class="h-7 border-t border-rule font-bold">
        <th scope="row" class="px-3.5">Profit</th>
        <td class="px-2 text-right">{{ money(data.planned) }}</td>
        <td class="px-2 text-right">{{ money(data.actual) }}</td>
        <td />
      </tr>
      <tr v-if="silent" class="text-xs text-soft">
        <td colspan="4" class="px-3.5 py-1">
          {{ silent }}
        </td>
      </tr>
    </tbody>
  </table>
</template>
