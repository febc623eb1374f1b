<script setup lang="ts">
/** A SKU's stock ahead: height = units expected, paler = less sure that any is left, red = more likely out, a square = a load arrives,
 *  an amber edge = order now, a dashed line = order by then. */
import { computed } from 'vue'
import { chance, dayAt, type Held } from './depot'

const props = defineProps<{ row: Held; today: string; days: number }>()
const W = 400
const H = 34
const TOP = 9
const step = computed(() => W / props.days)
const most = computed(() => Math.max(...props.row.ahead.expected, props.row.there, 1))
const bars = computed(() =>
  props.row.ahead.expected.map((units, day) => {
    const out = props.row.ahead.out[day] ?? 0
    const high = Math.max((units / most.value) * (H - TOP), 0)
    return { day, x: day * step.value, y: H - high, high, sure: Math.max(0.12, 1 - out), out: out > 0.5 }
  }),
)
const outFrom = computed(() => props.row.ahead.out.findIndex((one) => one > 0.5))
const by = computed(() => (props.row.order_in && props.row.order_in > 0 && props.row.order_in < props.days ? props.row.order_in : null))
const words = computed(() => {
  const parts = [`${props.row.there} there now`]
  for (const one of props.row.arrivals) parts.push(`${one.units} arrive on ${dayAt(props.today, one.day)}`)
  if (outFrom.value >= 0) parts.push(`more likely out than not from ${dayAt(props.today, outFrom.value)}`)
  else parts.push(`chance of being out on ${dayAt(props.today, props.days - 1)}: ${chance(props.row.ahead.out.at(-1) ?? 0)}`)
  return parts.join('; ')
})
</script>

<template>
  <svg :viewBox="`0 0 ${W} ${H}`" class="block h-[34px] w-full overflow-visible" preserveAspectRatio="none" role="img" :aria-label="words">
    <title>{{ words }}</title>
    <line :x1="0" :x2="W" :y1="H - 0.5" :y2="H - 0.5" class="stroke-rule" />
    <rect
      v-for="one in bars"
      :key="one.day"
      :x="one.x"
      :y="one.out ? H - 3 : one.y"
      :width="step + 0.3"
      :height="one.out ? 3 : one.high"
      :class="one.out ? 'fill-brick' : 'fill-pine'"
      :opacity="one.out ? 1 : one.sure"
    />
    <line
      v-if="by !== null"
      :x1="by * step"
      :x2="by * step"
      :y1="TOP - 4"
      :y2="H"
      class="stroke-ink"
      stroke-dasharray="2 2"
      vector-effect="non-scaling-stroke"
    />
    <rect v-if="row.order" x="0" :y="TOP - 5" width="3" :height="H - TOP + 5" class="fill-amber" />
    <g v-for="one in row.arrivals" :key="one.day">
      <rect :x="one.day * step - 4" y="0.5" width="8" height="8" class="fill-sheet stroke-ink" vector-effect="non-scaling-stroke" />
      <text
        :x="one.day * step + (one.day > days * 0.86 ? -7 : 7)"
        y="7.5"
        class="fill-soft text-[9px]"
        :text-anchor="one.day > days * 0.86 ? 'end' : 'start'"
      >
        +{{ one.units }}
      </text>
    </g>
  </svg>
</template>
