<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ bins: number[]; now: number[]; then: number[]; draft: boolean }>()
const bars = computed(() => {
  const first = Math.max(0, props.bins.findIndex((_, i) => props.now[i] || props.then[i]) - 1)
  const last = props.bins.findLastIndex((_, i) => props.now[i] || props.then[i]) + 2
  const top = Math.max(1, ...props.now, ...props.then)
  return props.bins.slice(first, last).map((bin, i) => ({ bin, now: props.now[first + i] ?? 0, then: props.then[first + i] ?? 0, top }))
})
</script>

<template>
  <div>
    <p class="flex gap-4">
      <b>SKUs by margin, percent</b
      ><span class="text-xs text-soft"><span class="mr-1 inline-block size-2.5 bg-faint" aria-hidden="true" />now</span
      ><span v-if="draft" class="text-xs text-soft"><span class="mr-1 inline-block size-2.5 bg-pine" aria-hidden="true" />then</span>
    </p>
    <ol class="mt-2 flex h-32 items-end gap-1" aria-label="SKUs by margin">
      <li
        v-for="bar in bars"
        :key="bar.bin"
        class="flex h-full min-w-0 flex-1 flex-col justify-end"
        :title="`${bar.bin} to ${bar.bin + 2} %: ${bar.now} now${draft ? `, ${bar.then} then` : ''}`"
      >
        <span class="flex h-full items-end"
          ><span class="flex-1 bg-faint" :style="{ height: `${(bar.now / bar.top) * 100}%` }" /><span
            v-if="draft"
            class="flex-1 bg-pine"
            :style="{ height: `${(bar.then / bar.top) * 100}%` }"
        /></span>
        <span class="mt-1 text-center text-2xs text-soft">{{ String(bar.bin).replace('-', '−') }}</span>
      </li>
    </ol>
  </div>
</template>
