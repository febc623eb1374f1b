<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'

defineProps<{ open: boolean; title: string; message?: string; wide?: boolean; broad?: boolean }>()
const emit = defineEmits<{ close: [] }>()
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="emit('close')">
    <div class="fixed inset-0 bg-asphalt/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center overflow-y-auto p-6 pt-16">
      <DialogPanel
        class="w-full rounded-md border border-rule bg-sheet p-5 shadow-xl"
        :class="broad ? 'max-w-6xl' : wide ? 'max-w-3xl' : 'max-w-lg'"
      >
        <DialogTitle as="h1" class="text-lg!">{{ title }}</DialogTitle>
        <p v-if="message" class="mt-1 text-soft">{{ message }}</p>
        <div class="mt-4"><slot /></div>
        <div class="mt-5 flex items-center justify-end gap-2"><slot name="acts" /></div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
