<script setup lang="ts">
/** Likeness 0 to 100 as a short bar and a figure; what is sure is pine, what a person must look at is slate. */
defineProps<{ score: number; decision: string }>()
const TONE: Record<string, string> = { open: 'bg-pine', review: 'bg-slate', none: 'bg-faint' }
const WORD: Record<string, string> = { open: 'sure', review: 'look at it', none: 'unlike' }
</script>

<template>
  <span class="inline-flex items-center gap-2" :title="`likeness ${score} of 100: ${WORD[decision] ?? decision}`"
    ><span class="h-1.5 w-9 overflow-hidden rounded-full bg-rule-2" aria-hidden="true"
      ><span class="block h-full rounded-full" :class="TONE[decision] ?? 'bg-faint'" :style="{ width: `${score}%` }" /></span
    ><b class="w-6 text-right">{{ score }}</b></span
  >
</template>
