<script setup lang="ts">
/** What becomes of a price, as falling bars with their figures beside them (so the picture is its own table). */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import { money, number } from './format'
import { fall } from './waterfall'

const props = defineProps<{ steps: Schema<'StepOut'>[] }>()
const bars = computed(() => fall(props.steps.map((step) => ({ amount: number(step.amount), total: step.kind === 'total' }))))
</script>

<template>
  <table class="w-full">
    <caption class="sr-only">
      What becomes of the price
    </caption>
    <tbody>
      <tr v-for="(step, i) in steps" :key="step.name" class="h-6" :class="step.kind === 'total' ? 'font-bold' : ''">
        <th scope="row" class="pr-2 text-left whitespace-nowrap" :class="step.kind === 'total' ? 'font-bold' : 'font-normal'">
          {{ step.name }}
        </th>
        <td class="w-full" aria-hidden="true">
          <svg viewBox="0 0 100 10" preserveAspectRatio="none" class="block h-2.5 w-full">
            <rect
              :x="bars[i]!.from"
              y="0"
              :width="bars[i]!.width"
              height="10"
              :class="step.kind !== 'total' ? 'fill-faint' : i ? (number(step.amount) < 0 ? 'fill-brick' : 'fill-pine') : 'fill-asphalt-2'"
            />
          </svg>
        </td>
        <td class="pl-3 text-right whitespace-nowrap" :class="i && step.kind === 'total' && number(step.amount) < 0 ? 'text-brick' : ''">
          {{ money(step.amount) }}
        </td>
      </tr>
    </tbody>
  </table>
</template>
