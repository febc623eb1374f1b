<script setup lang="ts">
defineProps<{ kind?: 'main' | 'plain' | 'link' | 'loss'; hint?: string; disabled?: boolean; small?: boolean }>()
</script>

<template>
  <button
    type="button"
    :disabled="disabled"
    class="inline-flex items-center gap-2 rounded font-semibold whitespace-nowrap transition-colors duration-100 disabled:opacity-50"
    :class="[
      small ? 'h-7 px-2.5 text-xs' : 'h-8 px-3 text-sm',
      kind === 'main'
        ? 'bg-pine text-sheet hover:bg-pine-2'
        : kind === 'link'
          ? 'px-1 text-slate hover:underline'
          : kind === 'loss'
            ? 'border border-brick bg-sheet text-brick hover:bg-brick-wash'
            : 'border border-rule bg-sheet hover:bg-shade',
    ]"
  >
    <slot />
    <kbd
      v-if="hint"
      class="rounded border px-1 font-mono text-2xs font-normal"
      :class="kind === 'main' ? 'border-pine-wash/60' : 'border-faint text-soft'"
      >{{ hint }}</kbd
    >
  </button>
</template>
