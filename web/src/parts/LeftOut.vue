<script setup lang="ts">
/** Which currencies a sum is without, since nobody said what they are worth in the house's: they are never added one to one. */
import { home } from './home'

defineProps<{ of: readonly string[] }>()
</script>

<template>
  <p v-if="of.length" class="mt-1 text-xs text-amber-ink">
    Without what is in {{ of.join(' and ') }}: there is no exchange rate to {{ home }}.
    <RouterLink class="underline" to="/price?view=fees">Enter it</RouterLink>
  </p>
</template>
