<script setup lang="ts">
/** Profit by day as a line, with the level of usual days and the band that nine of ten of them lie in. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import { dateOf, dayOf, money, number } from '@/parts/format'

const props = defineProps<{ of: Schema<'DaysOut'> }>()
const W = 820
const H = 92
const values = computed(() => props.of.days.map((one) => number(one.profit)))
const low = computed(() => Math.min(0, number(props.of.low), ...values.value))
const high = computed(() => Math.max(1, number(props.of.high), ...values.value))
const y = (value: number) => H - ((value - low.value) / (high.value - low.value)) * H
const x = (n: number) => (props.of.days.length < 2 ? W / 2 : (n / (props.of.days.length - 1)) * W)
const path = computed(() => values.value.map((value, n) => `${n ? 'L' : 'M'}${x(n).toFixed(1)} ${y(value).toFixed(1)}`).join(''))
const odd = computed(() =>
  props.of.days
    .map((day, n) => ({ day, n }))
    .filter(({ n }) => values.value[n]! < number(props.of.low) || values.value[n]! > number(props.of.high)),
)
</script>

<template>
  <figure class="sheet px-3 pt-2.5 pb-1.5">
    <figcaption class="flex justify-between text-xs text-soft">
      <span>Profit by day. A usual day {{ money(of.level) }}, nine of ten from {{ money(of.low) }} to {{ money(of.high) }}.</span
      ><span v-if="odd.length">{{ odd.length }} outside of it</span>
    </figcaption>
    <svg :viewBox="`0 0 ${W} ${H}`" preserveAspectRatio="none" class="mt-2 block h-24 w-full" role="img" aria-label="Profit by day">
      <rect x="0" :width="W" :y="y(number(of.high))" :height="Math.max(y(number(of.low)) - y(number(of.high)), 0)" class="fill-rule-2" />
      <line x1="0" :x2="W" :y1="y(0)" :y2="y(0)" class="stroke-faint" vector-effect="non-scaling-stroke" />
      <line
        x1="0"
        :x2="W"
        :y1="y(number(of.level))"
        :y2="y(number(of.level))"
        class="stroke-soft"
        stroke-dasharray="4 4"
        vector-effect="non-scaling-stroke"
      />
      <path :d="path" fill="none" class="stroke-asphalt" stroke-width="1.8" vector-effect="non-scaling-stroke" />
    </svg>
    <p class="flex justify-between text-2xs text-soft">
      <span>{{ dayOf(of.days[0]!.day) }}</span><span>{{ dayOf(of.days.at(-1)!.day) }}</span>
    </p>
    <details class="text-xs text-soft">
      <summary class="cursor-pointer">The numbers</summary>
      <table class="mt-1 w-72">
        <tr v-for="one in [...of.days].reverse()" :key="one.day">
          <th scope="row" class="font-normal">{{ dateOf(one.day) }}</th>
          <td class="text-right">{{ money(one.sales) }} sold</td>
          <td class="text-right">{{ money(one.profit) }}</td>
        </tr>
      </table>
    </details>
  </figure>
</template>
