<script setup lang="ts">
/** A load on its way, with its steps. */
import { computed } from 'vue'
import { dateOf, plural } from '@/parts/format'
import LoadSteps from './LoadSteps.vue'
import type { Load } from './depot'

const props = defineProps<{ load: Load }>()
const about = computed(() => {
  const one = props.load
  const parts = [one.own ? 'Sent by us' : `From ${one.sender}`, plural(one.cartons.length, 'carton'), plural(one.units, 'unit')]
  if (one.due) parts.push(`due ${dateOf(one.due)}`)
  return parts.join(' · ')
})
</script>

<template>
  <article class="sheet p-3.5">
    <h2>
      On its way: <RouterLink :to="`/depot?view=loads&load=${load.id}`" class="hover:underline">load {{ load.reference }}</RouterLink>
    </h2>
    <p class="mt-1 text-soft">{{ about }}</p>
    <LoadSteps :load="load" class="mt-3" />
    <p v-if="load.message" class="mt-1 text-xs text-amber-ink">{{ load.message }}</p>
  </article>
</template>
