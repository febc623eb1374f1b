<script setup lang="ts">
/** Copy listings to another store: prepared there by its own rules, not yet on sale. */
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/told'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { plural } from '@/parts/format'

const props = defineProps<{ listings: number[]; stores: Schema<'ShelfStore'>[] }>()
const emit = defineEmits<{ close: [] }>()
const store = ref(props.stores.at(-1)?.id ?? 0)
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
    told="They are prepared in the other store at its own prices and by its own rules for words. What it has already is left alone."
    @close="emit('close')"
  >
    <label class="block"
      ><span class="label">To</span
      ><select v-model="store" class="field">
        <option v-for="one in stores" :key="one.id" :value="one.id">{{ one.name }}</option>
      </select></label
    >
    <label class="mt-3 flex items-center gap-2"
      ><input v-model="follow" type="checkbox" class="accent-pine" />words that I change here later are changed there too</label
    >
    <template #acts><Btn @click="emit('close')">Leave it</Btn><Btn kind="main" @click="copy">Prepare them there</Btn></template>
  </Modal>
</template>
