<script setup lang="ts">
/** Stock that lies: what it costs a month, and the ways out. */
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import RowTable from '@/parts/RowTable.vue'
import Sight from '@/parts/Sight.vue'
import { count, money, plainOf } from '@/parts/format'
import { useForm } from '@/parts/form'
import { slowQuery } from './depot'

type Row = Schema<'SlowRow'>
const asked = useQuery(slowQuery())
const off = ref<Row | null>(null)
const units = ref('')
const why = ref('')
const way = ref<'off' | 'back'>('off')
const paid = ref('')
function begin(one: Row, how: 'off' | 'back') {
  way.value = how
  off.value = one
  units.value = String(one.there)
  why.value = 'did not sell'
  paid.value = ''
}
const { error, wrong, busy, sendAct } = useForm()
const save = () =>
  sendAct(
    () => {
      const one = off.value!
      const params = { path: { number: one.held } }
      const body = { version: one.version, units: Number(units.value) }
      if (way.value === 'off')
        return take(api.POST('/api/v1/depot/goods/{number}/write-off', { params, body: { ...body, reason: why.value } }))
      const amount = { amount: plainOf(paid.value) || '0', currency: one.currency }
      return take(api.POST('/api/v1/depot/goods/{number}/send-back', { params, body: { ...body, paid: amount } }))
    },
    () => (off.value = null),
  )
</script>

<template>
  <div class="flex flex-col gap-3 p-4.5">
    <p class="text-soft">
      What will not be sold within half a year at its pace, with what keeping it costs: storage, and what its money would earn.
    </p>
    <div class="sheet min-h-0 overflow-auto">
      <Sight
        :of="asked"
        :lines="5"
        :empty="!asked.data.value?.length"
        title="Nothing lies"
        message="Every SKU at the depot will be sold within half a year at its pace."
      >
        <RowTable
          v-slot="{ one }"
          :heads="['SKU', 'There', 'Lasts', 'Costs a month', 'It cost', 'Ways out']"
          :right="[1, 2, 3, 4]"
          :rows="asked.data.value!"
          :key-of="(one) => one.held"
          height="h-12"
        >
          <th scope="row" class="max-w-72 px-2.5">
            <span class="block truncate" :title="one.title">{{ one.title }}</span><span class="code font-normal text-soft">{{
              one.sku
            }}</span>
          </th>
          <td class="px-2.5 text-right">{{ count(one.there) }}</td>
          <td class="px-2.5 text-right text-brick">{{ one.days === null ? 'not sold' : `${count(one.days)} days` }}</td>
          <td class="px-2.5 text-right font-bold">{{ money(one.month) }}</td>
          <td class="px-2.5 text-right">{{ money(one.value) }}</td>
          <td class="px-2.5">
            <span class="flex flex-wrap gap-2">
              <RouterLink :to="`/price?words=${encodeURIComponent(one.sku)}`"><Btn small>Lower its price</Btn></RouterLink>
              <RouterLink :to="`/lanes?words=${encodeURIComponent(one.sku)}`"><Btn small>Sell it in a kit</Btn></RouterLink>
              <Btn small @click="begin(one, 'back')">Send back</Btn>
              <Btn small kind="loss" @click="begin(one, 'off')">Write off</Btn>
            </span>
          </td>
        </RowTable>
      </Sight>
    </div>
    <Modal
      v-if="off"
      open
      :title="way === 'off' ? `Write off ${off.title}` : `${off.title} goes back to its supplier`"
      :message="
        way === 'off'
          ? 'It leaves the stock and stands in the books as a loss. This cannot be undone.'
          : 'Ask the depot to send it; once it has left, enter it here with what the supplier pays for it. This cannot be undone.'
      "
      @close="off = null"
    >
      <label class="block"><span class="label">Units</span><input v-model="units" class="field text-right" inputmode="numeric" /></label>
      <label v-if="way === 'off'" class="mt-3 block"
        ><span class="label">Why</span><input v-model="why" class="field" maxlength="300"
      /></label>
      <label v-else class="mt-3 block"
        ><span class="label">Its supplier pays in all, {{ off.currency }}</span
        ><input v-model="paid" class="field text-right" inputmode="decimal" placeholder="0" :aria-invalid="!!wrong.paid"
      /></label>
      <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
      <template #acts
        ><Btn @click="off = null">Cancel</Btn
        ><Btn kind="loss" :disabled="busy || !/^\d+$/.test(units.trim())" @click="save">{{
          way === 'off' ? 'Write off' : 'It has left'
        }}</Btn></template
      >
    </Modal>
  </div>
</template>
