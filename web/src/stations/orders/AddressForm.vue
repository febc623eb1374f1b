<script setup lang="ts">
/** Mend an address: what is wrong stands at its part, what can be mended by itself is filled in already. */
import { reactive } from 'vue'
import { api, take, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import Modal from '@/parts/Modal.vue'

const props = defineProps<{ order: Schema<'OrderOut'> }>()
const emit = defineEmits<{ close: [] }>()
/** Some parts have another name from country to country. */
const called = (name: string, usual: string) => props.order.called[name] ?? usual
const FIELDS = [
  ['name', 'Name'],
  ['address_1', 'Address'],
  ['address_2', 'Address, second line'],
  ['city', 'City'],
  ['postcode', 'Postcode'],
  ['region', 'Region'],
  ['country', 'Country, two letters'],
  ['phone', 'Phone'],
] as const
type Field = (typeof FIELDS)[number][0]
const form = reactive(Object.fromEntries(FIELDS.map(([name]) => [name, props.order.proposed[name] ?? ''])) as Record<Field, string>)
const { error, wrong, sendAct } = useForm()
/** What was wrong at first stands there as long as it is not mended; what is refused afterwards, in any case. */
const message = (name: Field) =>
  wrong.value[name] ?? (form[name] === (props.order.address[name] ?? '') ? props.order.faults[name] : undefined)
const was = (name: Field) => props.order.given[name] ?? ''
const save = () =>
  sendAct(
    () =>
      take(
        api.POST('/api/v1/orders/{number}/address', {
          params: { path: { number: props.order.id } },
          body: { version: props.order.version, ...form },
        }),
      ),
    () => emit('close'),
  )
</script>

<template>
  <Modal
    open
    :title="`Mend the address of order ${order.number}`"
    message="The one the buyer gave is kept beside it."
    @close="emit('close')"
  >
    <form class="grid grid-cols-2 gap-3" @submit.prevent="save">
      <label v-for="[name, usual] in FIELDS" :key="name"
        ><span class="label">{{ called(name, usual) }}</span
        ><input v-model="form[name]" class="field" maxlength="100" :aria-invalid="!!message(name)" /><span
          v-if="message(name)"
          class="block text-xs text-brick"
          >{{ message(name) }}</span
        ><span v-if="was(name) !== form[name] && was(name)" class="block text-xs text-soft">given as “{{ was(name) }}”</span></label
      >
      <button type="submit" class="hidden" />
    </form>
    <p v-if="error" role="alert" class="mt-3 text-brick">{{ error }}</p>
    <template #acts><Btn @click="emit('close')">Cancel</Btn><Btn kind="main" @click="save">Save this address</Btn></template>
  </Modal>
</template>
