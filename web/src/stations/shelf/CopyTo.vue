<script setup lang="ts">
/** Copy listings to another store: prepared there by its own rules, not yet on sale. */
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { plural } from '@/parts/format'

const props = defineProps<{ listings: number[]; from: string; stores: Schema<'ShelfStore'>[] }>()
const emit = defineEmits<{ close: [] }>()
// Where all of them come from one store, it is not a place to copy to.
const others = props.stores.filter((one) => one.name !== props.from)
const store = ref(others.at(-1)?.id ?? 0)
const follow = ref(true)
const copy = async () => {
  const body = { listings: props.listings, store: store.value, follow: follow.value }
  if (await act(() => take(api.POST('/api/v1/shelf/copy', { body })))) emit('close')
}
</script>

<template>
  <Modal
    open
    :title="`Copy ${plural(listings.length, 'listing')}`"
    message="Prepared in the other store at its own prices and by its own rules for words. What it has already is left alone."
    @close="emit('close')"
  >
    <label class="block"
      ><span class="label">To</span
      ><select v-model="store" class="field">
        <option v-for="one in others" :key="one.id" :value="one.id">{{ one.name }}</option>
      </select></label
    >
    <label class="mt-3 flex items-center gap-2"
      ><input v-model="follow" type="checkbox" class="accent-pine" />words that I change here later are changed there too</label
    >
    <template #acts><Btn @click="emit('close')">Cancel</Btn><Btn kind="main" @click="copy">Prepare there</Btn></template>
  </Modal>
</template>
