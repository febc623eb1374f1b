<script setup lang="ts">
defineProps<{ title: string; message?: string }>()
</script>

<template>
  <div class="px-6 py-10 text-center">
    <h2>{{ title }}</h2>
    <p v-if="message" class="mx-auto mt-1 max-w-md text-soft">{{ message }}</p>
    <div class="mt-4 flex justify-center gap-2"><slot /></div>
  </div>
</template>
