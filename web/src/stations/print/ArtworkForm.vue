<script setup lang="ts">
/** Bring in artwork, or a version of one: for any cloth, for light or dark cloth, or for one colour. */
import { ref } from 'vue'
import { upload, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { plural } from '@/parts/format'
import { useForm } from '@/parts/form'

const props = defineProps<{
  artwork?: { id: number; name: string; listings?: number; orders?: number }
  ground?: string
  colour?: string
}>()
const emit = defineEmits<{ close: []; added: [id: number] }>()
const name = ref('')
const ground = ref(props.ground ?? (props.artwork ? 'dark' : 'any'))
const colour = ref(props.colour ?? '')
const file = ref<File | null>(null)
const { error, wrong, busy, sendAct } = useForm()
function chosen(event: Event) {
  file.value = (event.target as HTMLInputElement).files?.[0] ?? null
  if (file.value && !name.value) name.value = file.value.name.replace(/\.\w+$/, '').replace(/[-_]+/g, ' ')
}
const save = () =>
  sendAct(
    async () => {
      const beside = { name: name.value, ground: ground.value, colour: ground.value === 'colour' ? colour.value : '' }
      if (props.artwork) return upload<Schema<'Done'>>(`/api/v1/printing/artwork/${props.artwork.id}/versions`, file.value!, beside)
      const added = await upload<Schema<'Added'>>('/api/v1/printing/artwork', file.value!, beside)
      emit('added', added.id)
      return added
    },
    () => emit('close'),
  )
</script>

<template>
  <Modal
    open
    :title="artwork ? `A version of ${artwork.name}` : 'Add artwork'"
    message="PNG, JPEG or SVG, in sRGB with 8 bits a colour; what is see-through stays so. It is checked and kept once."
    @close="emit('close')"
  >
    <label class="block"
      ><span class="label">File</span><input type="file" accept=".png,.jpg,.jpeg,.svg" class="block w-full text-sm" @change="chosen"
    /></label>
    <label v-if="!artwork" class="mt-3 block"
      ><span class="label">Name</span><input v-model="name" class="field" maxlength="80" :aria-invalid="!!wrong.name"
    /></label>
    <label class="mt-3 block"
      ><span class="label">Made for</span
      ><select v-model="ground" class="field">
        <option value="any">any cloth</option>
        <option value="light">light cloth (dark ink)</option>
        <option value="dark">dark cloth (light ink)</option>
        <option value="colour">one colour</option>
      </select></label
    >
    <label v-if="ground === 'colour'" class="mt-3 block"
      ><span class="label">Colour, as the print house names it</span><input v-model="colour" class="field" maxlength="60"
    /></label>
    <p v-if="artwork?.listings" class="mt-3 rounded bg-slate-wash px-2.5 py-1.5 text-slate">
      {{ plural(artwork.listings, 'listing')
      }}{{ artwork.orders === undefined ? '' : ` and ${plural(artwork.orders, 'open order line')}` }} printed from it: checked anew, and
      they follow. What was sent to a house stays as it was.
    </p>
    <p class="mt-3 text-xs text-soft">
      Each cloth colour takes the version that reads better on it by itself; one made for a colour is always taken for that colour.
    </p>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="main" :disabled="!file || busy || (!artwork && !name.trim())" @click="save">{{
        busy ? 'Checking…' : 'Add'
      }}</Btn></template
    >
  </Modal>
</template>
