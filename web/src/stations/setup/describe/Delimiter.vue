<script setup lang="ts">
/** What parts the columns of a CSV answer. */
defineProps<{ label: string }>()
const model = defineModel<string>()
const MARKS = [
  [',', 'commas'],
  [';', 'semicolons'],
  ['\t', 'tabs'],
  ['|', 'strokes'],
] as const
</script>

<template>
  <label
    ><span class="label">{{ label }}</span
    ><select v-model="model" class="field">
      <option v-for="[mark, words] in MARKS" :key="mark" :value="mark">{{ words }}</option>
    </select></label
  >
</template>
