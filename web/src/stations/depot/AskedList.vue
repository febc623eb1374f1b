<script setup lang="ts">
/** What depots were asked to hold and have not agreed to: their questions are answered here, and the word of one without an interface. */
import { ref, watch } from 'vue'
import { api, take } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { useForm } from '@/parts/form'
import { HELD_WORDS, type Asked } from './depot'

const props = defineProps<{ rows: Asked[]; open: boolean; answer: string }>()
const answering = ref<Asked | null>(null)
const text = ref('')
const { error, busy, sendAct } = useForm()
watch(
  () => [props.answer, props.rows.length],
  () => {
    const one = props.rows.find((row) => String(row.id) === props.answer && row.state === 'question')
    if (one) answering.value = one
  },
  { immediate: true },
)
const close = () => ((answering.value = null), (text.value = ''))
const send = () =>
  sendAct(() => {
    const one = answering.value!
    return take(
      api.POST('/api/v1/depot/goods/{number}/answer', {
        params: { path: { number: one.id } },
        body: { version: one.version, text: text.value },
      }),
    )
  }, close)
const say = (one: Asked, state: 'agreed' | 'refused') =>
  sendAct(() =>
    take(
      api.POST('/api/v1/depot/goods/{number}/say', {
        params: { path: { number: one.id } },
        body: { version: one.version, state, message: '' },
      }),
    ),
  )
const TONES = { asked: 'plain', question: 'waits', refused: 'loss' } as const
</script>

<template>
  <details :open="open" class="sheet">
    <summary class="cursor-pointer px-3.5 py-2 font-bold">Asked, and not agreed to yet: {{ rows.length }}</summary>
    <ul class="max-h-48 overflow-auto border-t border-rule-2">
      <li
        v-for="one in rows"
        :key="one.id"
        class="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-rule-2 px-3.5 py-1.5 last:border-0"
      >
        <span class="min-w-0 flex-1 truncate"
          ><b>{{ one.title }}</b> <span class="code text-soft">{{ one.sku }}</span></span
        >
        <span v-if="one.message" class="max-w-80 truncate text-soft" :title="one.message">{{ one.message }}</span>
        <Tag :tone="TONES[one.state as keyof typeof TONES] ?? 'plain'">{{ HELD_WORDS[one.state] }}</Tag>
        <span class="text-xs text-soft"><When :at="one.asked_at" /></span>
        <Btn v-if="one.state === 'question'" small kind="main" @click="answering = one">Answer</Btn>
        <template v-if="!one.calls && one.state !== 'refused'"
          ><Btn small @click="say(one, 'agreed')">They said yes</Btn><Btn small @click="say(one, 'refused')">They said no</Btn></template
        >
      </li>
    </ul>
    <p v-if="error && !answering" role="alert" class="px-3.5 py-2 text-brick">{{ error }}</p>
    <Modal v-if="answering" open :title="`${answering.depot} asks about ${answering.title}`" :message="answering.message" @close="close">
      <label class="block"
        ><span class="label">Your answer</span><textarea v-model="text" class="field h-24! py-1.5" maxlength="1000" />
      </label>
      <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
      <template #acts
        ><Btn @click="close">Cancel</Btn><Btn kind="main" :disabled="busy || !text.trim()" @click="send">Send the answer</Btn></template
      >
    </Modal>
  </details>
</template>
