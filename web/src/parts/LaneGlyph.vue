<script setup lang="ts">
/** The lane as a small picture: dot = SKU, line = lane, square = origin. Its state is also said in words. */
import { computed } from 'vue'

const props = defineProps<{ state: string; use?: number }>()
const kind = computed(() => (props.state === 'open' && props.use ? 'spare' : props.state))
const WORDS: Record<string, string> = {
  open: 'lane open',
  slow: 'lane slow',
  shut: 'lane shut',
  new: 'lane new, not yet proven',
  spare: 'spare lane',
}
const TONE: Record<string, string> = {
  open: 'text-pine',
  slow: 'text-ink',
  shut: 'text-brick',
  new: 'text-slate',
  spare: 'text-soft',
}
</script>

<template>
  <svg
    viewBox="0 0 58 10"
    width="58"
    height="10"
    role="img"
    :aria-label="WORDS[kind] ?? kind"
    class="inline-block shrink-0"
    :class="TONE[kind]"
    fill="none"
    stroke="currentColor"
    stroke-width="1.8"
  >
    <circle cx="4" cy="5" r="3" fill="currentColor" stroke="none" />
    <rect x="49.5" y="1.8" width="6.4" height="6.4" fill="currentColor" stroke="none" />
    <template v-if="kind === 'spare'"><path d="M9 3.6H47M9 6.4H47" stroke-width="1" /></template>
    <path v-else-if="kind === 'slow'" d="M9 5H47" stroke-dasharray="5 3" />
    <path v-else-if="kind === 'new'" d="M9 5H47" stroke-dasharray="1.6 2.4" />
    <template v-else-if="kind === 'shut'"><path d="M9 5H24M33 5H47M26.5 1V9M30.5 1V9" /></template>
    <path v-else d="M9 5H47" />
  </svg>
</template>
