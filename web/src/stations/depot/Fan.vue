<script setup lang="ts">
/** The days to come of one SKU: what is expected, between what one in ten is below and above, its loads and its reorder point. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import { chance, dayAt } from './depot'

const props = defineProps<{
  ahead: Schema<'AheadOut'>
  arrivals: Schema<'ArrivalOut'>[]
  there: number
  point: number
  today: string
}>()
const W = 310
const H = 132
const TOP = 22
const days = computed(() => props.ahead.expected.length)
const most = computed(() => Math.max(...props.ahead.high, props.point, props.there, 1) * 1.05)
const x = (day: number) => (day / days.value) * W
const y = (units: number) => H - (units / most.value) * (H - TOP)
const line = (of: number[]) =>
  [`M0 ${y(props.there)}`, ...of.map((units, day) => `L${x(day + 1).toFixed(1)} ${y(units).toFixed(1)}`)].join(' ')
const band = computed(() => {
  const back = props.ahead.low.map((units, day) => `L${x(day + 1).toFixed(1)} ${y(units).toFixed(1)}`).reverse()
  return `${line(props.ahead.high)} ${back.join(' ')} L0 ${y(props.there)} Z`
})
const marks = computed(() => [0, Math.round(days.value / 2), days.value - 1])
</script>

<template>
  <figure>
    <svg :viewBox="`0 0 ${W} ${H + 36}`" class="block w-full overflow-visible" role="img" :aria-label="`Stock in the next ${days} days`">
      <path :d="band" class="fill-pine-wash" />
      <line x1="0" :x2="W" :y1="H" :y2="H" class="stroke-rule" />
      <line x1="0" :x2="W" :y1="y(point)" :y2="y(point)" class="stroke-ink" stroke-dasharray="4 3" />
      <text :x="W" :y="y(point) - 3" class="fill-ink text-[10px]" text-anchor="end">reorder point {{ point }}</text>
      <path :d="line(ahead.expected)" fill="none" class="stroke-pine" stroke-width="2" />
      <g v-for="one in arrivals" :key="one.day">
        <rect :x="x(one.day) - 5" y="4" width="10" height="10" class="fill-sheet stroke-ink" />
        <text
          :x="x(one.day) + (one.day > days * 0.8 ? -9 : 9)"
          y="13"
          class="fill-soft text-[10px]"
          :text-anchor="one.day > days * 0.8 ? 'end' : 'start'"
        >
          +{{ one.units }}
        </text>
      </g>
      <rect
        v-for="(out, day) in ahead.out"
        :key="`out-${day}`"
        :x="x(day)"
        :y="H + 34 - out * 14"
        :width="W / days + 0.2"
        :height="out * 14"
        class="fill-brick"
      >
        <title>{{ dayAt(today, day) }}: chance of being out {{ chance(out) }}</title>
      </rect>
      <line x1="0" :x2="W" :y1="H + 34" :y2="H + 34" class="stroke-rule" />
      <text
        v-for="(day, n) in marks"
        :key="day"
        :x="x(day)"
        :y="H + 13"
        class="fill-soft text-[10px]"
        :text-anchor="n === 0 ? 'start' : n === 1 ? 'middle' : 'end'"
      >
        {{ dayAt(today, day) }}
      </text>
    </svg>
    <figcaption class="mt-1 text-2xs text-soft">
      The line is what is expected; one day in five lies outside of the band. Red: the chance of being out, day by day.
    </figcaption>
  </figure>
</template>
