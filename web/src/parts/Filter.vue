<script setup lang="ts">
/** The words a list is filtered by; `/` jumps here. */
import { ref } from 'vue'
import { useKeys } from '@/app/keys'

defineProps<{ words: string; label: string }>()
const emit = defineEmits<{ change: [words: string] }>()
const field = ref<HTMLInputElement | null>(null)
useKeys('Filter', [{ key: '/', message: 'filter this list', run: () => field.value?.select() }])
</script>

<template>
  <div class="relative w-56 min-w-40 shrink max-[1180px]:w-44">
    <input
      ref="field"
      type="search"
      class="field pr-7 max-[1180px]:pr-2"
      :value="words"
      :aria-label="label"
      :placeholder="label"
      maxlength="200"
      @input="emit('change', ($event.target as HTMLInputElement).value)"
      @keydown.esc="field?.blur()"
    />
    <kbd
      class="pointer-events-none absolute top-1.5 right-2 rounded border border-faint px-1 font-mono text-2xs text-soft max-[1180px]:hidden"
      >/</kbd
    >
  </div>
</template>
