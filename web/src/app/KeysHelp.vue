<script setup lang="ts">
import { computed } from 'vue'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { keyLayers, useKeys } from './keys'

defineProps<{ open: boolean; version: string }>()
const emit = defineEmits<{ close: []; open: [] }>()
useKeys('Everywhere', [{ key: '?', message: 'show these keys', run: () => emit('open') }])
const NAMES: Record<string, string> = {
  arrowdown: '↓',
  arrowup: '↑',
  'shift+arrowdown': 'Shift ↓',
  ' ': 'Space',
  'ctrl+k': 'Ctrl K',
  escape: 'Esc',
  enter: 'Enter',
}
const groups = computed(() => {
  const all = new Map<string, Map<string, string>>()
  for (const layer of keyLayers)
    for (const key of layer.keys) {
      const group = all.get(layer.name) ?? new Map<string, string>()
      const known = group.get(key.message)
      const name = NAMES[key.key] ?? key.key.toUpperCase()
      group.set(key.message, known ? `${known} ${name.replaceAll(' ', '+')}` : name.replaceAll(' ', '+'))
      all.set(layer.name, group)
    }
  return [...all]
})
</script>

<template>
  <Modal :open="open" title="Keys of this view" @close="emit('close')">
    <section v-for="[name, keys] in groups" :key="name" class="mb-3">
      <h2>{{ name }}</h2>
      <dl class="mt-1 grid grid-cols-[110px_1fr] gap-y-1">
        <template v-for="[message, key] in keys" :key="message"
          ><dt>
            <kbd v-for="one in key.split(' ')" :key="one" class="mr-1 rounded border border-faint px-1 font-mono text-2xs">{{
              one.replaceAll('+', ' ')
            }}</kbd>
          </dt>
          <dd>{{ message }}</dd></template
        >
      </dl>
    </section>
    <template #acts
      ><span class="mr-auto text-xs text-soft">Amber Lane {{ version }}</span
      ><Btn @click="emit('close')">Close</Btn></template
    >
  </Modal>
</template>
