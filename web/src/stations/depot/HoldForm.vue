<script setup lang="ts">
/** Ask a depot to hold a SKU: what one unit measures as it is packed. */
import { ref } from 'vue'
import { api, take } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { useForm } from '@/parts/form'
import Measures from './Measures.vue'
import type { Worth } from './depot'

const props = defineProps<{ of: Worth }>()
const emit = defineEmits<{ close: [] }>()
const sides = ref([...props.of.sides])
const weight = ref(props.of.weight_g)
const inner = ref(1)
const carton = ref(0)
const { error, wrong, busy, sendAct } = useForm()
const save = () =>
  sendAct(
    () =>
      take(
        api.POST('/api/v1/depot/goods', {
          body: {
            sku: props.of.sku,
            depot: props.of.depot,
            sides: sides.value,
            weight_g: weight.value,
            inner: inner.value,
            carton: carton.value,
            least: 0,
          },
        }),
      ),
    () => emit('close'),
  )
</script>

<template>
  <Modal
    open
    wide
    :title="`Ask ${of.depot_name} to hold ${of.title}`"
    :message="`It is told what one unit measures and weighs as it is packed, and what it is worth. ${of.depot_name} says yes, no with a reason, or asks something first.`"
    @close="emit('close')"
  >
    <Measures v-model:sides="sides" v-model:weight="weight" v-model:inner="inner" v-model:carton="carton" :wrong="wrong" />
    <p v-if="of.guessed" class="mt-2 text-xs text-amber-ink">
      The three lengths are guessed from the weight. Measure one, or ask {{ of.supplier }}.
    </p>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts><Btn @click="emit('close')">Cancel</Btn><Btn kind="main" :disabled="busy" @click="save">Ask to hold it</Btn></template>
  </Modal>
</template>
