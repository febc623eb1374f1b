<script setup lang="ts" generic="T">
/** A table of few rows: its head stays in sight, and a row can be chosen. The slot gives a row's cells. */
defineProps<{
  heads: string[]
  /** Which heads stand at the right, by their place. */
  right?: number[]
  rows: readonly T[]
  keyOf: (one: T) => string | number
  /** The chosen row; none is chosen where it is left out. */
  active?: number
  /** How high a row is. */
  height?: string
  tight?: boolean
}>()
const emit = defineEmits<{ choose: [n: number] }>()
</script>

<template>
  <table class="w-full">
    <thead class="sticky top-0 bg-sheet">
      <tr class="h-8 border-b border-rule text-2xs text-soft">
        <th v-for="(label, n) in heads" :key="label" :class="[tight ? 'px-2' : 'px-2.5', right?.includes(n) ? 'text-right' : '']">
          {{ label }}
        </th>
      </tr>
    </thead>
    <tbody>
      <tr
        v-for="(one, n) in rows"
        :key="keyOf(one)"
        class="border-b border-rule-2"
        :class="[height ?? 'h-11', active === undefined ? '' : 'cursor-pointer', n === active ? 'bg-shade' : '']"
        :aria-selected="active === undefined ? undefined : n === active"
        @click="emit('choose', n)"
      >
        <slot :one="one" />
      </tr>
    </tbody>
  </table>
</template>
