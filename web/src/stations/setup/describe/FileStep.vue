<script setup lang="ts">
/** The description as its file, for whoever would rather write than click. */
import { ref, watch } from 'vue'
import Btn from '@/parts/Btn.vue'
import { useDraft } from './draft'

const { whole, keep, kept } = useDraft()
const text = ref('')
const touched = ref(false)
watch(
  whole,
  (now) => {
    if (now && !touched.value) text.value = now.text
  },
  { immediate: true },
)
void kept()
async function save() {
  if (await keep(text.value)) touched.value = false
}
</script>

<template>
  <div class="flex h-full flex-col">
    <div class="flex items-center gap-3">
      <h2>The file</h2>
      <span class="text-soft">YAML or JSON; keys are never in it.</span>
      <Btn kind="main" small class="ml-auto" :disabled="!touched" @click="save">Save</Btn>
    </div>
    <textarea
      v-model="text"
      class="field code mt-2 min-h-64 flex-1 resize-none"
      spellcheck="false"
      aria-label="The description as its file"
      @input="touched = true"
      @keydown.ctrl.s.prevent="save"
    />
    <ul v-if="whole?.found.length" class="mt-2 max-h-32 overflow-auto">
      <li v-for="one in whole.found" :key="one.place + one.message" class="text-xs text-brick">
        <span class="code">{{ one.place || 'the text' }}</span>: {{ one.message }}
      </li>
    </ul>
    <p v-else class="mt-2 text-xs text-pine">It can be used as it stands.</p>
  </div>
</template>
