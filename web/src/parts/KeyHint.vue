<script setup lang="ts">
defineProps<{ keys: string; message: string }>()
</script>

<template>
  <span class="text-xs text-soft whitespace-nowrap"
    ><kbd v-for="one in keys.split(' ')" :key="one" class="mr-1 rounded border border-faint px-1 font-mono text-2xs text-ink">{{ one }}</kbd
    >{{ message }}</span
  >
</template>
