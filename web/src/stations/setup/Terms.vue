<script setup lang="ts">
/** What a supplier gives on its goods; typed once, and seen in every price before it counts. */
import { reactive, ref } from 'vue'
import type { Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import DraftModal from '@/parts/DraftModal.vue'
import Modal from '@/parts/Modal.vue'
import { inField, numberOf } from '@/parts/format'

const props = defineProps<{ supplier: Schema<'PartnerOut'> }>()
const emit = defineEmits<{ close: [] }>()
const FIELDS = [
  ['discount', 'Discount on goods, %', 'taken off every cost'],
  ['rebate', 'Rebate expected later, %', 'shown apart; counted only if the limits say so'],
  ['tax', 'Tax it adds to goods, %', 'that you cannot claim back'],
] as const
const form = reactive(
  Object.fromEntries(FIELDS.map(([name]) => [name, inField((props.supplier.terms?.[name] ?? 0) / 10_000)])) as Record<
    (typeof FIELDS)[number][0],
    string
  >,
)
const wrong = ref('')
const draft = ref<Schema<'TermsBody'> | null>(null)
function look() {
  const ppm = FIELDS.map(([name]) => Math.round(numberOf(form[name] || '0') * 10_000))
  if (ppm.some((n) => !Number.isFinite(n) || n < 0) || ppm[0]! >= 1_000_000 || ppm[1]! >= 1_000_000) {
    wrong.value = 'Give each as a percentage such as 2.5; discount and rebate below 100.'
    return
  }
  wrong.value = ''
  draft.value = { supplier: props.supplier.id, version: props.supplier.version, discount: ppm[0]!, rebate: ppm[1]!, tax: ppm[2]! }
}
</script>

<template>
  <Modal :open="!draft" :title="`What ${supplier.name} gives`" message="It counts for every item of this supplier." @close="emit('close')">
    <label v-for="[name, label, hint] in FIELDS" :key="name" class="mb-3 block"
      ><span class="label"
        >{{ label }} <span class="font-normal">({{ hint }})</span></span
      ><input v-model="form[name]" class="field" inputmode="decimal" maxlength="9" @keydown.enter="look"
    /></label>
    <p v-if="wrong" role="alert" class="text-brick">{{ wrong }}</p>
    <template #acts><Btn @click="emit('close')">Cancel</Btn><Btn kind="main" @click="look">See what it does</Btn></template>
  </Modal>
  <DraftModal v-if="draft" :title="`What ${supplier.name} gives`" :draft="{ terms: draft }" @close="draft = null" @done="emit('close')" />
</template>
