<script setup lang="ts">
/** The entries of the journal that a number is the sum of. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import { count, dayOf, money, plural } from '@/parts/format'
import { BASES, KINDS, entriesQuery, useBooks, type Number } from './books'

const props = defineProps<{ of: Number }>()
const { days, only } = useBooks()
const offset = ref(0)
watch(
  () => props.of,
  () => (offset.value = 0),
)
const asked = useQuery(computed(() => entriesQuery(props.of, { ...days.value, only: only.value }, offset.value)))
const { data } = asked
</script>

<template>
  <div>
    <h1>{{ of.name }}</h1>
    <Sight :of="asked" :lines="8">
      <p class="mt-1 text-soft">{{ plural(data!.count, 'entry', 'entries') }} come to {{ money(data!.total) }}.</p>
      <table class="mt-3 w-full">
        <caption class="sr-only">
          Entries behind the number
        </caption>
        <tbody>
          <tr v-for="row in data!.rows" :key="row.id" class="border-b border-rule-2 align-top">
            <td class="w-14 py-1.5 whitespace-nowrap text-soft">{{ dayOf(row.day) }}</td>
            <td class="py-1.5">
              {{ KINDS[row.kind] ?? row.kind }}<span v-if="row.basis !== 'planned'" class="text-soft">, {{ BASES[row.basis] }}</span>
              <RouterLink v-if="row.order" class="code block text-slate hover:underline" :to="`/orders?state=all&row=${row.order}`">{{
                row.purchase || row.order_number
              }}</RouterLink>
              <span v-if="row.own_day" class="block text-xs text-soft">of {{ dayOf(row.own_day) }}, a closed month</span>
            </td>
            <td class="py-1.5 text-right whitespace-nowrap">
              {{ row.home ? money(row.home) : 'no rate' }}
              <span v-if="row.home && row.amount.currency !== row.home.currency" class="block text-xs text-soft">{{
                money(row.amount)
              }}</span>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="data!.count > 500" class="mt-2 flex items-center gap-2 text-xs text-soft">
        {{ count(offset + 1) }} to {{ count(offset + data!.rows.length) }} of {{ count(data!.count) }}
        <Btn small :disabled="!offset" @click="offset = Math.max(0, offset - 500)">Newer</Btn
        ><Btn small :disabled="offset + 500 >= data!.count" @click="offset += 500">Older</Btn>
      </p>
    </Sight>
  </div>
</template>
