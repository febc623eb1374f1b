<script setup lang="ts">
/** A closed store's token, shown once, with the command that starts its program. */
import { computed, ref } from 'vue'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'

const props = defineProps<{ token: string; store: string }>()
const emit = defineEmits<{ close: [] }>()
const command = computed(() => `amber-lane agent --token ${props.token} --at ${location.origin} --store https://… --key name:password`)
const copied = ref(false)
async function copy() {
  await navigator.clipboard?.writeText(command.value).catch(() => undefined)
  copied.value = true
}
</script>

<template>
  <Modal
    open
    wide
    :title="`The program of ${store}`"
    message="The token is shown this one time. Start the program on the machine from which you sign in to the store; put the store’s address, and your name and password there, in place of the last two."
    @close="emit('close')"
  >
    <pre class="code overflow-x-auto rounded border border-rule bg-paper p-3 break-all whitespace-pre-wrap">{{ command }}</pre>
    <p class="mt-2 text-soft">It may be stopped and started at any time: nothing is lost, done twice or out of order.</p>
    <template #acts
      ><Btn @click="copy">{{ copied ? 'Copied' : 'Copy' }}</Btn
      ><Btn kind="main" @click="emit('close')">I have it</Btn></template
    >
  </Modal>
</template>
