<script setup lang="ts">
/** Keep a search that runs by itself. */
import { reactive, ref } from 'vue'
import { api, take } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import type { ListAsk } from '@/parts/pages'
import { count } from '@/parts/format'

const props = defineProps<{ ask: ListAsk; fit: number | null }>()
const emit = defineEmits<{ close: [] }>()
const form = reactive({ name: props.ask.words, every: '24', limit: '20', bring: 'prepared' as 'report' | 'prepared' | 'live' })
const wrong = ref('')
async function keep() {
  wrong.value = ''
  try {
    const done = await take(
      api.POST('/api/v1/source/saved', {
        params: { query: { ...props.ask } },
        body: { name: form.name, every_hours: Number(form.every), daily_limit: Number(form.limit) || 20, bring: form.bring },
      }),
    )
    emit('close')
    void act(() => Promise.resolve(done))
  } catch (problem) {
    wrong.value = wordsOf(problem)
  }
}
</script>

<template>
  <Modal
    open
    title="Save search"
    :message="`The search runs by itself with all its limits. ${fit === null ? '' : `${count(fit)} items fit it now; those you do not have come in first.`}`"
    @close="emit('close')"
  >
    <label class="block"><span class="label">Call it</span><input v-model="form.name" class="field" maxlength="80" /></label>
    <div class="mt-3 grid grid-cols-[3fr_5fr_3fr] gap-3">
      <label
        ><span class="label">Look every</span
        ><select v-model="form.every" class="field">
          <option value="6">6 hours</option>
          <option value="12">12 hours</option>
          <option value="24">day</option>
          <option value="168">week</option>
        </select></label
      >
      <label
        ><span class="label">What it finds</span
        ><select v-model="form.bring" class="field">
          <option value="report">is only reported</option>
          <option value="prepared">comes in as prepared</option>
          <option value="live">is published at once</option>
        </select></label
      >
      <label
        ><span class="label">At most a day</span><input v-model="form.limit" class="field text-right" inputmode="numeric" maxlength="3"
      /></label>
    </div>
    <p v-if="wrong" role="alert" class="mt-3 text-brick">{{ wrong }}</p>
    <template #acts><Btn @click="emit('close')">Cancel</Btn><Btn kind="main" @click="keep">Save search</Btn></template>
  </Modal>
</template>
