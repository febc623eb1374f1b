<script setup lang="ts">
/** Names and templates, a line each. words: what a template may use; a click puts it where one was typing. */
import { computed, ref } from 'vue'
import Btn from '@/parts/Btn.vue'
import { vShown } from '../../../parts/shown'

const props = defineProps<{ label: string; name: string; words?: string[] }>()
const model = defineModel<Record<string, string>>()
const emit = defineEmits<{ change: [] }>()
const rows = computed(() => Object.entries(model.value ?? {}))
const fresh = ref('')
function put(name: string, text: string) {
  model.value = { ...model.value, [name]: text }
  emit('change')
}
function rename(old: string, name: string) {
  model.value = Object.fromEntries(rows.value.map(([key, text]) => [key === old ? name.trim() : key, text]).filter(([key]) => key))
  emit('change')
}
function drop(name: string) {
  model.value = Object.fromEntries(rows.value.filter(([key]) => key !== name))
  emit('change')
}
function add() {
  if (fresh.value.trim()) put(fresh.value.trim(), '')
  fresh.value = ''
}
const hint = computed(() => (props.words?.length ? `{{ ${props.words[0]} }}` : ''))
</script>

<template>
  <div @input.stop @change.stop>
    <p class="label">{{ label }}</p>
    <div v-for="[key, text] in rows" :key="key" class="mb-1 flex gap-2">
      <input
        v-shown="key"
        class="field code w-44!"
        :aria-label="name"
        maxlength="80"
        @change="rename(key, ($event.target as HTMLInputElement).value)"
      />
      <input
        class="field code"
        :value="text"
        :aria-label="`What ${key} is`"
        :placeholder="hint"
        maxlength="2000"
        @input="put(key, ($event.target as HTMLInputElement).value)"
      />
      <Btn small :aria-label="`Remove ${key}`" @click="drop(key)">Remove</Btn>
    </div>
    <div class="flex gap-2">
      <input
        v-model="fresh"
        class="field code w-44!"
        :placeholder="name"
        :aria-label="`New: ${name}`"
        maxlength="80"
        @keydown.enter.prevent="add"
      />
      <Btn small :disabled="!fresh.trim()" @click="add">Add</Btn>
    </div>
  </div>
</template>
