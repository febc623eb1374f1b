<script setup lang="ts">
/** Where a parcel is between its label and its promise: how far it is, and how much of the time is used. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import { live } from '@/app/live'

const props = defineProps<{ parcel: Schema<'ParcelRow'> }>()
const MILES: Record<string, number> = { label: 0.04, moving: 0.55, delivered: 1, returned: 1 }
const made = computed(() => Date.parse(props.parcel.made_at))
const end = computed(() => Date.parse(props.parcel.promised_by ?? '') + 86_400_000 || made.value + 7 * 86_400_000)
const used = computed(() =>
  Math.min(
    1,
    Math.max(
      0,
      ((props.parcel.ended_at ? Date.parse(props.parcel.ended_at) : live.now.value) - made.value) / (end.value - made.value || 1),
    ),
  ),
)
const far = computed(() => MILES[props.parcel.state] ?? 0)
const words = computed(() => `${props.parcel.state}; ${Math.round(used.value * 100)} % of the time to the promise is used`)
</script>

<template>
  <svg viewBox="0 0 200 16" preserveAspectRatio="none" class="block h-4 w-full" role="img" :aria-label="words">
    <title>{{ words }}</title>
    <path d="M2 8H198" class="stroke-rule" stroke-width="4" />
    <path :d="`M2 8H${2 + far * 196}`" stroke-width="4" :class="parcel.trouble ? 'stroke-brick' : 'stroke-pine'" />
    <path :d="`M${2 + used * 196} 1V15`" stroke-width="2" class="stroke-asphalt" vector-effect="non-scaling-stroke" />
  </svg>
</template>
