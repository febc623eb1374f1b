<script setup lang="ts">
/** Price and cost over time as step lines; the same numbers in a table on demand. */
import { computed } from 'vue'
import { dayOf, fullTime } from './format'
import { rangeOf, stepPath, type Point } from './steps'

const props = defineProps<{
  series: { name: string; tone: 'ink' | 'brick'; points: Point[]; show: (value: number) => string }[]
  from: number
  to: number
}>()
const STROKE = { ink: 'stroke-asphalt', brick: 'stroke-brick' }
const TEXT = { ink: 'text-ink', brick: 'text-brick' }
const rows = computed(() =>
  props.series
    .filter((one) => one.points.length)
    .map((one) => ({
      ...one,
      path: stepPath(one.points, 330, 34, [props.from, props.to], rangeOf(one.points)),
      last: one.points.at(-1)!.value,
      range: rangeOf(one.points),
    })),
)
const day = (at: number) => fullTime(new Date(at).toISOString())
</script>

<template>
  <div>
    <div v-for="row in rows" :key="row.name" class="mb-2">
      <div class="flex justify-between text-2xs" :class="TEXT[row.tone]">
        <span>{{ row.name }}</span><span class="text-soft"
          >{{ row.show(row.range[0]) }} to {{ row.show(row.range[1]) }}, now {{ row.show(row.last) }}</span
        >
      </div>
      <svg
        viewBox="0 0 330 34"
        preserveAspectRatio="none"
        class="block h-9 w-full"
        role="img"
        :aria-label="`${row.name}, now ${row.show(row.last)}`"
      >
        <path :d="row.path" fill="none" stroke-width="1.8" vector-effect="non-scaling-stroke" :class="STROKE[row.tone]" />
      </svg>
    </div>
    <p v-if="rows.length" class="mb-1 flex justify-between text-2xs text-soft">
      <span>{{ dayOf(new Date(from).toISOString()) }}</span><span>{{ dayOf(new Date((from + to) / 2).toISOString()) }}</span
      ><span>{{ dayOf(new Date(to).toISOString()) }}</span>
    </p>
    <details v-if="rows.length" class="text-xs text-soft">
      <summary class="cursor-pointer">The numbers</summary>
      <table class="mt-1 w-full">
        <template v-for="row in rows" :key="row.name">
          <tr v-for="point in row.points.slice(-12).reverse()" :key="row.name + point.at">
            <td>{{ row.name }}</td>
            <td>{{ day(point.at) }}</td>
            <td class="text-right">{{ row.show(point.value) }}</td>
          </tr>
        </template>
      </table>
    </details>
  </div>
</template>
