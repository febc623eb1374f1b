<script setup lang="ts">
/** What the house wishes of its depots: how sure stock shall be, what holding costs, who is written to; and what a depot by mail asks. */
import { useQuery } from '@tanstack/vue-query'
import { ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import { useForm } from '@/parts/form'
import { homeSign } from '@/parts/home'
import TermsForm from './TermsForm.vue'
import { wishesQuery } from './depot'
import { inField, numberOf, plainOf } from '@/parts/format'

defineProps<{ depots: Schema<'DepotOut'>[] }>()
const emit = defineEmits<{ close: [] }>()
const asked = useQuery(wishesQuery())
const form = ref({ service: '', review: '', hold: '', order_cost: '', prefix: '', warn_to: '', warn_hours: '', budget: '' })
const currency = ref('')
watch(
  () => asked.data.value,
  (one) => {
    if (!one || currency.value) return
    currency.value = one.order_cost.currency
    form.value = {
      service: inField(one.service),
      review: String(one.review),
      hold: inField(one.hold),
      order_cost: inField(one.order_cost.amount),
      prefix: one.prefix,
      warn_to: one.warn_to.join(', '),
      warn_hours: String(one.warn_hours),
      budget: inField(one.budget?.amount),
    }
  },
  { immediate: true },
)
const { error, wrong, busy, sendAct } = useForm()
const point = (text: string) => numberOf(text)
const money = (text: string) => ({ amount: plainOf(text), currency: currency.value })
const save = () =>
  sendAct(
    () =>
      take(
        api.PUT('/api/v1/depot/wishes', {
          body: {
            service: point(form.value.service),
            review: Math.round(point(form.value.review)),
            hold: point(form.value.hold),
            order_cost: money(form.value.order_cost || '0'),
            prefix: form.value.prefix.trim(),
            warn_to: form.value.warn_to.split(/[,;\s]+/).filter(Boolean),
            warn_hours: Math.round(point(form.value.warn_hours)),
            budget: form.value.budget.trim() ? money(form.value.budget) : null,
          },
        }),
      ),
    () => emit('close'),
  )
</script>

<template>
  <Modal open wide title="What we wish of our depots" @close="emit('close')">
    <Sight :of="asked" :lines="5">
      <div class="grid grid-cols-2 gap-3">
        <label class="block"
          ><span class="label">Shall be in stock on so many of 100 days</span
          ><input v-model="form.service" class="field text-right" inputmode="decimal" :aria-invalid="!!wrong.service"
        /></label>
        <label class="block"
          ><span class="label">Days between two looks at what to order</span
          ><input v-model="form.review" class="field text-right" inputmode="numeric" :aria-invalid="!!wrong.review"
        /></label>
        <label class="block"
          ><span class="label">Holding stock for a year costs, % of its cost</span
          ><input v-model="form.hold" class="field text-right" inputmode="decimal" :aria-invalid="!!wrong.hold"
        /></label>
        <label class="block"
          ><span class="label">The work of one order costs, {{ homeSign }}</span
          ><input v-model="form.order_cost" class="field text-right" inputmode="decimal" :aria-invalid="!!wrong.order_cost"
        /></label>
        <label class="block"
          ><span class="label">Budget of one plan, {{ homeSign }}; empty = any</span
          ><input v-model="form.budget" class="field text-right" inputmode="decimal"
        /></label>
        <label class="block"
          ><span class="label">Your GS1 company prefix, for carton numbers</span
          ><input v-model="form.prefix" class="field" inputmode="numeric" :aria-invalid="!!wrong.prefix"
        /></label>
        <label class="block"
          ><span class="label">Mail when something has to be ordered, to</span
          ><input v-model="form.warn_to" class="field" placeholder="nobody" :aria-invalid="!!wrong.warn_to"
        /></label>
        <label class="block"
          ><span class="label">At most once in so many hours</span
          ><input v-model="form.warn_hours" class="field text-right" inputmode="numeric" :aria-invalid="!!wrong.warn_hours"
        /></label>
      </div>
      <p class="mt-2 text-xs text-soft">
        0400000 is for numbers used among you and the depot alone; with your own prefix they are unique in the whole world.
      </p>
      <TermsForm v-for="one in depots" :key="one.id" :depot="one.id" />
    </Sight>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts><Btn @click="emit('close')">Cancel</Btn><Btn kind="main" :disabled="busy" @click="save">Save</Btn></template>
  </Modal>
</template>
