<script setup lang="ts">
import { count } from './format'
/** Filters of a list as a row of choices; the chosen one is kept in the address. pending: no count is known yet; tight: of many choices. */
defineProps<{
  options: { key: string; label: string; count?: number; waits?: boolean }[]
  chosen: string
  label: string
  pending?: boolean
  tight?: boolean
}>()
const emit = defineEmits<{ choose: [key: string] }>()
</script>

<template>
  <div role="group" :aria-label="label" class="flex flex-wrap" :class="tight ? 'gap-1' : 'gap-1.5'">
    <button
      v-for="one in options"
      :key="one.key"
      type="button"
      :aria-pressed="chosen === one.key"
      class="h-7 rounded text-xs font-semibold whitespace-nowrap"
      :class="[tight ? 'px-1.75' : 'px-2.5', chosen === one.key ? 'bg-asphalt text-sheet' : 'border border-rule bg-sheet hover:bg-shade']"
      @click="emit('choose', one.key)"
    >
      {{ one.label
      }}<span
        v-if="one.count !== undefined && !pending"
        class="ml-1.5"
        :class="chosen === one.key ? '' : one.waits && one.count ? 'text-amber-ink' : 'text-soft'"
        >{{ count(one.count) }}</span
      >
    </button>
  </div>
</template>
