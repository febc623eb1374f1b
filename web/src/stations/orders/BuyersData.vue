<script setup lang="ts">
/** What a buyer may ask of us: all that we hold of them, or that it is erased. */
import { api, take, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { useForm } from '@/parts/form'

const props = defineProps<{ order: Schema<'OrderOut'> }>()
const emit = defineEmits<{ close: [] }>()
const { error, busy, sendAct } = useForm()
const erase = () =>
  sendAct(
    () => take(api.POST('/api/v1/orders/{number}/erase-buyer', { params: { path: { number: props.order.id } } })),
    () => emit('close'),
  )
</script>

<template>
  <Modal
    open
    :title="`The data of ${order.buyer}`"
    :message="
      order.mail
        ? `This order and all others with the mail address ${order.mail}.`
        : 'This order alone: it came without a mail address by which others could be found.'
    "
    @close="emit('close')"
  >
    <p>
      <b>They ask what we hold.</b> A file with their orders, addresses, mails, and to whom these were passed on.
      <a class="font-semibold text-slate underline" :href="`api/v1/orders/${order.id}/buyer.json`" download>Take it out</a>
    </p>
    <p class="mt-4">
      <b>They ask to be forgotten.</b> Name, address, mail, phone and notes go from the orders, from what was sent to suppliers and mailed
      to them, and from the log. Country and sums stay, for the books.
    </p>
    <p class="mt-2 text-soft">
      Orders under way must be over first. Suppliers and carriers keep what they were told; write to them. So do your backups and archive
      files, and sheets as they were brought in until they go by their age.
    </p>
    <p v-if="error" role="alert" class="mt-3 text-brick">{{ error }}</p>
    <template #acts
      ><span class="mr-auto text-soft">This cannot be undone.</span><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="loss" :disabled="busy" @click="erase">Erase the buyer</Btn></template
    >
  </Modal>
</template>
