<script setup lang="ts">
/** One plan over all goods within a budget or the room of a container; one key makes the loads. */
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { useDebounce } from '@vueuse/core'
import { computed, ref } from 'vue'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import { count, money, numberOf } from '@/parts/format'
import { homeSign, untyped } from '@/parts/home'
import { order, planQuery } from './depot'

const emit = defineEmits<{ close: [] }>()
const budget = ref('')
const litres = ref('')
const asks = computed(() => {
  const money = untyped(budget.value)
  const room = numberOf(litres.value)
  return { budget: budget.value.trim() && money >= 0 ? money : null, litres: litres.value.trim() && room > 0 ? room : null }
})
const late = useDebounce(asks, 250)
const asked = useQuery(computed(() => ({ ...planQuery(late.value.budget, late.value.litres), placeholderData: keepPreviousData })))
const rows = computed(() => asked.data.value?.rows ?? [])
const lines = computed(() => rows.value.filter((one) => one.units).map((one) => ({ held: one.held, units: one.units })))
const go = async () => {
  if (await order(lines.value)) emit('close')
}
</script>

<template>
  <Modal
    open
    wide
    title="Order for the depot"
    message="Within a budget, carton by carton goes where it is expected to save most for its money."
    @close="emit('close')"
  >
    <div class="flex flex-wrap items-end gap-3">
      <label class="block"
        ><span class="label">Budget, {{ homeSign }}</span
        ><input v-model="budget" class="field w-36! text-right" inputmode="decimal" placeholder="any"
      /></label>
      <label class="block"
        ><span class="label">Room of one container, litres</span
        ><input v-model="litres" class="field w-36! text-right" inputmode="decimal" placeholder="any"
      /></label>
    </div>
    <Sight
      :of="asked"
      :lines="5"
      :empty="!rows.length"
      title="Nothing has to be ordered"
      message="Everything at the depot will last until its next look."
    >
      <div class="mt-3 max-h-80 overflow-auto">
        <table class="w-full">
          <thead class="sticky top-0 bg-sheet">
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th>SKU</th>
              <th class="px-2">From</th>
              <th class="px-2 text-right">Wanted</th>
              <th class="px-2 text-right">Order</th>
              <th class="px-2 text-right">Costs about</th>
              <th class="text-right">Saves lost sales of</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in rows" :key="one.held" class="h-9 border-b border-rule-2">
              <th scope="row" class="max-w-56 truncate font-normal" :title="one.title">{{ one.title }}</th>
              <td class="max-w-40 truncate px-2">{{ one.supplier || 'sent by us' }}</td>
              <td class="px-2 text-right">{{ count(one.wanted) }}</td>
              <td class="px-2 text-right font-bold" :class="one.units < one.wanted ? 'text-amber-ink' : ''">{{ count(one.units) }}</td>
              <td class="px-2 text-right">{{ money(one.cost) }}</td>
              <td class="text-right">{{ money(one.avoided) }}</td>
            </tr>
          </tbody>
          <tfoot v-if="asked.data.value">
            <tr class="h-9 font-bold">
              <th scope="row" colspan="4">
                All wanted would cost {{ money(asked.data.value.wanted) }}; {{ asked.data.value.litres }} litres
              </th>
              <td class="px-2 text-right">{{ money(asked.data.value.spent) }}</td>
              <td class="text-right">{{ money(asked.data.value.avoided) }}</td>
            </tr>
          </tfoot>
        </table>
      </div>
    </Sight>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="main" :disabled="!lines.length" @click="go"
        >Order {{ count(lines.length) }}, {{ money(asked.data.value?.spent) }}</Btn
      ></template
    >
  </Modal>
</template>
