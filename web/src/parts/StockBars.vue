<script setup lang="ts">
/** Stock over 60 days as small bars, three days each; what is not known yet is left out. */
import { computed } from 'vue'

const props = defineProps<{ stock: number[]; days: number }>()
const most = computed(() => Math.max(1, ...props.stock))
const message = computed(() => (props.days < 0 ? 'not seen for long enough' : `in stock on ${props.days} of 60 days`))
</script>

<template>
  <svg viewBox="0 0 80 16" preserveAspectRatio="none" class="block h-4 w-20" role="img" :aria-label="message">
    <title>{{ message }}</title>
    <template v-for="(n, i) in stock" :key="i">
      <rect
        v-if="n >= 0"
        :x="i * 4"
        :y="n ? 16 - Math.max(2, (n / most) * 16) : 15"
        width="3"
        :height="n ? Math.max(2, (n / most) * 16) : 1"
        :class="n ? 'fill-faint' : 'fill-brick'"
      />
    </template>
  </svg>
</template>
