<script setup lang="ts">
/** One figure by two dimensions. */
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { computed } from 'vue'
import Sight from '@/parts/Sight.vue'
import { money, number } from '@/parts/format'
import { BYS, crossQuery, useBooks, type By } from './books'

const props = defineProps<{ across: By; figure: string }>()
const { by, days, only } = useBooks()
const asked = useQuery(
  computed(() => ({
    ...crossQuery(by.value, props.across, props.figure, { ...days.value, only: only.value }),
    placeholderData: keepPreviousData,
  })),
)
const { data } = asked
const label = computed(() => BYS.find((one) => one.key === by.value)?.label)
</script>

<template>
  <div class="sheet min-h-0 overflow-auto">
    <Sight :of="asked" :lines="6" :empty="!data?.rows.length" title="Nothing was bought in these days" message="Choose other days above.">
      <table class="w-full">
        <thead class="sticky top-0 bg-sheet">
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th class="px-2.5">{{ label }}</th>
            <th v-for="one in data!.columns" :key="one" class="max-w-28 truncate px-2.5 text-right" :title="one">{{ one }}</th>
            <th class="px-2.5 text-right">All</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in data!.rows" :key="row.key" class="h-8 border-b border-rule-2">
            <th scope="row" class="max-w-52 truncate px-2.5" :title="row.name">{{ row.name }}</th>
            <td
              v-for="(one, n) in row.cells"
              :key="n"
              class="px-2.5 text-right whitespace-nowrap"
              :class="number(one) < 0 ? 'text-brick' : ''"
            >
              {{ one ? money(one) : '–' }}
            </td>
            <td class="px-2.5 text-right font-bold whitespace-nowrap">{{ money(row.total) }}</td>
          </tr>
        </tbody>
      </table>
    </Sight>
  </div>
</template>
