<script setup lang="ts">
/** What one unit measures as it is packed. */
defineProps<{ wrong: Record<string, string> }>()
const sides = defineModel<number[]>('sides', { required: true })
const weight = defineModel<number>('weight', { required: true })
const inner = defineModel<number>('inner', { required: true })
/** 0 = as many as fit. */
const carton = defineModel<number>('carton', { required: true })
const NAMES = ['Long, mm', 'Wide, mm', 'High, mm']
</script>

<template>
  <div class="grid grid-cols-3 sm:grid-cols-6 gap-2">
    <label v-for="(name, n) in NAMES" :key="name" class="block"
      ><span class="label">{{ name }}</span
      ><input v-model.number="sides[n]" type="number" min="1" class="field text-right" :aria-invalid="!!wrong.sides"
    /></label>
    <label class="block"
      ><span class="label">Weight, g</span
      ><input v-model.number="weight" type="number" min="1" class="field text-right" :aria-invalid="!!wrong.weight_g"
    /></label>
    <label class="block"
      ><span class="label">In packs of</span
      ><input v-model.number="inner" type="number" min="1" class="field text-right" :aria-invalid="!!wrong.inner"
    /></label>
    <label class="block"
      ><span class="label">In a carton</span
      ><input
        :value="carton || ''"
        type="number"
        min="1"
        placeholder="what fits"
        class="field text-right"
        :aria-invalid="!!wrong.carton"
        @input="carton = Math.max(0, Math.round(Number(($event.target as HTMLInputElement).value) || 0))"
    /></label>
  </div>
</template>
