<script setup lang="ts">
defineProps<{ tone?: 'waits' | 'good' | 'loss' | 'info' | 'plain' }>()
const TONES = {
  waits: 'bg-amber-wash text-amber-ink',
  good: 'bg-pine-wash text-pine',
  loss: 'bg-brick-wash text-brick',
  info: 'bg-slate-wash text-slate',
  plain: 'bg-rule-2 text-soft',
}
</script>

<template>
  <span class="inline-block rounded px-1.5 py-0.5 text-2xs font-semibold whitespace-nowrap" :class="TONES[tone ?? 'plain']"><slot /></span>
</template>
