<script setup lang="ts">
/** Put a load together: units of goods that one depot holds; bought from their supplier, or sent by ourselves. */
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { tell } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { count, plainOf } from '@/parts/format'
import { useForm } from '@/parts/form'

const props = defineProps<{ of: Schema<'DepotView'> }>()
const emit = defineEmits<{ close: []; made: [id: number] }>()
const depot = ref(props.of.depots[0]?.id ?? 0)
const own = ref(false)
const currency = computed(() => props.of.depots.find((one) => one.id === depot.value)?.currency ?? '')
const goods = computed(() => props.of.rows.filter((one) => one.depot_id === depot.value && one.state === 'agreed'))
const units = ref<Record<number, string>>(Object.fromEntries(props.of.rows.map((one) => [one.id, one.order ? String(one.order) : ''])))
const costs = ref<Record<number, string>>({})
const lots = ref<Record<number, string>>({})
const befores = ref<Record<number, string>>({})
const chosen = computed(() => goods.value.filter((one) => Number(units.value[one.id] || 0) > 0))
const { error, busy, send } = useForm()
async function save() {
  const made = await send(() =>
    take(
      api.POST('/api/v1/depot/loads', {
        body: {
          depot: depot.value,
          own: own.value,
          lines: chosen.value.map((one) => ({
            held: one.id,
            units: Math.round(Number(units.value[one.id])),
            lot: lots.value[one.id] ?? '',
            best_before: befores.value[one.id] || null,
            cost: own.value ? { amount: plainOf(costs.value[one.id] || '0'), currency: currency.value } : null,
          })),
        },
      }),
    ),
  )
  if (!made) return
  tell(`Load ${made.reference} is put together; order it when it is right`)
  emit('made', made.id)
}
</script>

<template>
  <Modal
    open
    wide
    title="Put a load together"
    message="It is packed into cartons by the depot's limits. Nothing is bought before you order it."
    @close="emit('close')"
  >
    <div class="flex flex-wrap items-end gap-3">
      <label v-if="of.depots.length > 1" class="block"
        ><span class="label">Depot</span
        ><select v-model.number="depot" class="field">
          <option v-for="one in of.depots" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select></label
      >
      <label class="flex h-8 items-center gap-2"><input v-model="own" type="checkbox" /> We send it ourselves; nothing is bought</label>
    </div>
    <div class="mt-3 max-h-80 overflow-auto">
      <table class="w-full">
        <thead>
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th>SKU</th>
            <th class="px-2 text-right">There</th>
            <th class="w-24 text-right">Units</th>
            <th v-if="own" class="w-28 pl-2 text-right">A unit cost, {{ currency }}</th>
            <th class="w-24 pl-2">Lot</th>
            <th class="w-36 pl-2">Best before</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in goods" :key="one.id" class="h-10 border-b border-rule-2">
            <th scope="row" class="max-w-64 truncate font-normal" :title="one.title">
              {{ one.title }} <span class="code text-soft">{{ one.sku }}</span>
            </th>
            <td class="px-2 text-right">{{ count(one.there) }}</td>
            <td><input v-model="units[one.id]" class="field text-right" inputmode="numeric" :aria-label="`Units of ${one.title}`" /></td>
            <td v-if="own" class="pl-2">
              <input v-model="costs[one.id]" class="field text-right" inputmode="decimal" :aria-label="`What one of ${one.title} cost`" />
            </td>
            <td class="pl-2"><input v-model="lots[one.id]" class="field" maxlength="60" :aria-label="`Lot of ${one.title}`" /></td>
            <td class="pl-2"><input v-model="befores[one.id]" type="date" class="field" :aria-label="`${one.title} is best before`" /></td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="main" :disabled="busy || !chosen.length" @click="save">Put it together</Btn></template
    >
  </Modal>
</template>
