<script setup lang="ts">
/** The steps of a load as mileposts on a road: done, and still to come. */
import { computed } from 'vue'
import { dayOf } from '@/parts/format'
import { STEPS, type Load } from './depot'

const props = defineProps<{ load: Load }>()
const steps = computed(() => STEPS.filter((one) => !(props.load.own && one.state === 'ordered')))
const at = computed(() =>
  Math.max(
    steps.value.findIndex((one) => one.state === props.load.state),
    0,
  ),
)
</script>

<template>
  <ol class="flex" :aria-label="`Steps of load ${load.reference}`">
    <li v-for="(one, n) in steps" :key="one.state" class="relative flex-1 last:flex-none" :aria-current="n === at ? 'step' : undefined">
      <span
        v-if="n < steps.length - 1"
        class="absolute top-[5px] left-2 h-1 w-full"
        :class="n < at ? 'bg-pine' : 'bg-rule'"
        aria-hidden="true"
      />
      <span
        class="relative block size-3.5 border-2"
        :class="[
          n === steps.length - 1 ? '' : 'rounded-full',
          n <= at && !['refused', 'cancelled'].includes(load.state) ? 'border-pine bg-pine' : 'border-faint bg-sheet',
        ]"
        aria-hidden="true"
      />
      <span class="mt-1 block pr-2 text-2xs whitespace-nowrap" :class="n <= at ? '' : 'text-soft'"
        >{{ one.label }}<span class="block text-soft">{{ n <= at && one.at(load) ? dayOf(one.at(load)!) : '&nbsp;' }}</span></span
      >
    </li>
  </ol>
</template>
