<script setup lang="ts">
/** How often a supplier is looked at, and what it lets us ask. */
import { reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'

const props = defineProps<{ supplier: Schema<'PartnerOut'> }>()
const emit = defineEmits<{ close: [] }>()
const FIELDS = [
  ['sweep_minutes', 'Look every, minutes', ''],
  ['calls_minute', 'Calls a minute at most', 'as it answers'],
  ['calls_day', 'Calls a day at most, for sweeps', 'no limit'],
  ['hour_from', 'From this hour of the day', 'at all hours'],
  ['hour_to', 'Until this hour', 'at all hours'],
] as const
const form = reactive(Object.fromEntries(FIELDS.map(([name]) => [name, String(props.supplier[name] ?? '')])) as Record<string, string>)
const wrong = ref('')
async function keep() {
  const values = Object.fromEntries(FIELDS.map(([name]) => [name, form[name]?.trim() ? Number(form[name]) : null]))
  if (Object.values(values).some((n) => n !== null && (!Number.isInteger(n) || n < 0)) || !values.sweep_minutes) {
    wrong.value = 'Give whole numbers; how often to look is needed.'
    return
  }
  try {
    const done = await take(
      api.POST('/api/v1/setup/suppliers/{number}/looks', {
        params: { path: { number: props.supplier.id } },
        body: { version: props.supplier.version, ...values } as never,
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
    :title="`How often to look at ${supplier.name}`"
    message="A sweep keeps to all of these. Where each item is a call of its own, the calls go where being wrong would cost most."
    @close="emit('close')"
  >
    <form class="grid grid-cols-2 gap-3" @submit.prevent="keep">
      <label v-for="[name, label, none] in FIELDS" :key="name" :class="name === 'sweep_minutes' ? 'col-span-2' : ''"
        ><span class="label">{{ label }}</span
        ><input v-model="form[name]" class="field" inputmode="numeric" maxlength="8" :placeholder="none"
      /></label>
      <button type="submit" class="hidden" />
    </form>
    <p v-if="wrong" role="alert" class="mt-2 text-brick">{{ wrong }}</p>
    <template #acts><Btn @click="emit('close')">Cancel</Btn><Btn kind="main" @click="keep">Save</Btn></template>
  </Modal>
</template>
