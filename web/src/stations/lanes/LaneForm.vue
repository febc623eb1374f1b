<script setup lang="ts">
/** A lane with more to say: a kit of several items, for one store alone, between two days, or an allowed replacement. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { money } from '@/parts/format'
import { offersQuery } from './queries'
import { facetsQuery } from '@/stations/source/queries'

type Offer = Schema<'OfferOut'>
const props = defineProps<{ sku: Schema<'SkuOut'>; offers: Offer[] }>()
const emit = defineEmits<{ close: [] }>()
const parts = reactive<{ item: Offer; units: string }[]>(props.offers[0] ? [{ item: props.offers[0], units: props.offers[0].units }] : [])
const words = ref('')
const { data: found } = useQuery(
  computed(() => ({ ...offersQuery(props.sku.sku_id, words.value), enabled: words.value.trim().length > 1 })),
)
const { data: stores } = useQuery(facetsQuery())
const form = reactive({ store: '', use: 'main', starts: '', ends: '' })
const uses = computed(() => {
  const n = props.sku.lanes.filter((one) => !one.instead).length
  return [
    { key: 'main', label: 'Main lane' },
    ...Array.from({ length: n }, (_, at) => ({ key: String(at + 1), label: `Spare ${at + 1}` })),
    { key: 'instead', label: 'Replacement, where the store permits one' },
  ]
})
const wrong = ref('')
function add(item: Offer) {
  if (!parts.some((one) => one.item.item_id === item.item_id)) parts.push({ item, units: '1' })
  words.value = ''
}
async function open() {
  wrong.value = ''
  const instead = form.use === 'instead'
  try {
    const done = await take(
      api.POST('/api/v1/lanes', {
        body: {
          sku_id: props.sku.sku_id,
          parts: parts.map((one) => ({ item_id: one.item.item_id, units: one.units || '1' })),
          use: instead || form.use === 'main' ? 0 : Number(form.use),
          store_id: form.store ? Number(form.store) : null,
          starts: form.starts || null,
          ends: form.ends || null,
          instead,
        },
      }),
    )
    emit('close')
    void act(() => Promise.resolve(done))
  } catch (problem) {
    wrong.value = wordsOf(problem)
  }
}
</script>

<template>
  <Modal
    :open="true"
    :title="`A lane for ${sku.sku}`"
    message="A kit has several items, of one supplier or of several: each is bought, and all must be there for one to be sold."
    wide
    @close="emit('close')"
  >
    <table v-if="parts.length" class="w-full">
      <thead>
        <tr class="h-7 border-b border-rule text-2xs text-soft">
          <th>Item</th>
          <th class="w-28 text-right">Units per sale</th>
          <th class="w-24 text-right">Costs</th>
          <th class="w-24" />
        </tr>
      </thead>
      <tbody>
        <tr v-for="(one, n) in parts" :key="one.item.item_id" class="h-11 border-b border-rule-2">
          <td class="max-w-0">
            <span class="block truncate font-semibold" :title="one.item.title">{{ one.item.title }}</span><span class="cell-2"
              ><span class="code">{{ one.item.number }}</span> {{ one.item.supplier }}, {{ one.item.origin }}</span
            >
          </td>
          <td class="text-right">
            <input
              v-model="one.units"
              class="field w-16! text-right"
              maxlength="9"
              :aria-label="`Units of ${one.item.number} per unit sold`"
            />
          </td>
          <td class="text-right">{{ money(one.item.cost) }}</td>
          <td class="text-right"><Btn small @click="parts.splice(n, 1)">Remove</Btn></td>
        </tr>
      </tbody>
    </table>
    <label class="mt-3 block"
      ><span class="text-soft">{{ parts.length ? 'Add an item' : 'Find an item' }}</span
      ><input
        v-model="words"
        class="field mt-1"
        type="search"
        maxlength="200"
        placeholder="Word, number or barcode"
        aria-label="Add an item"
    /></label>
    <ul v-if="words.trim().length > 1" class="mt-1 max-h-40 overflow-auto">
      <li v-for="one in found ?? []" :key="one.item_id">
        <button type="button" class="flex w-full gap-2 rounded px-2 py-1 text-left hover:bg-shade" @click="add(one)">
          <span class="min-w-0 flex-1 truncate">{{ one.title }}</span><span class="code text-soft">{{ one.number }}</span
          ><span>{{ money(one.cost) }}</span>
        </button>
      </li>
      <li v-if="found && !found.length" class="px-2 py-1 text-soft">No item has these words.</li>
    </ul>
    <div class="mt-4 grid grid-cols-2 gap-3">
      <label
        ><span class="text-soft">Use</span
        ><select v-model="form.use" class="field mt-1">
          <option v-for="one in uses" :key="one.key" :value="one.key">{{ one.label }}</option>
        </select></label
      ><label
        ><span class="text-soft">For</span
        ><select v-model="form.store" class="field mt-1">
          <option value="">All stores</option>
          <option v-for="one in stores?.stores ?? []" :key="one.id" :value="String(one.id)">{{ one.name }} alone</option>
        </select></label
      ><label><span class="text-soft">From (empty: at once)</span><input v-model="form.starts" type="date" class="field mt-1" /></label
      ><label><span class="text-soft">Until (empty: for good)</span><input v-model="form.ends" type="date" class="field mt-1" /></label>
    </div>
    <p v-if="wrong" role="alert" class="mt-3 text-brick">{{ wrong }}</p>
    <template #acts
      ><Btn @click="emit('close')">Close</Btn
      ><Btn kind="main" :disabled="!parts.length" @click="open">{{
        parts.length > 1 ? `Open a kit of ${parts.length}` : form.use === 'instead' ? 'Allow the replacement' : 'Open the lane'
      }}</Btn></template
    >
  </Modal>
</template>
