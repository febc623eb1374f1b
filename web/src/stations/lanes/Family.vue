<script setup lang="ts">
/** All sizes and colours of one thing: who has which of them, and which lanes are opened together. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import LikenessBar from '@/parts/LikenessBar.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import { count, money, plural } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { familyQuery } from './queries'

type Cell = Schema<'CellOut'>
const props = defineProps<{ sku: number }>()
const emit = defineEmits<{ close: [] }>()
const asked = useQuery(computed(() => familyQuery(props.sku)))
const { data } = asked
const cells = computed(() => new Map((data.value?.cells ?? []).map((one) => [`${one.sku_id}-${one.supplier_id}`, one])))
/** By SKU: suppliers in the order of their lanes, the main one first. */
const picked = ref(new Map<number, number[]>())
watch(
  data,
  (now) => {
    if (!now || picked.value.size) return
    // What is sure stands chosen: the supplier with most of the sizes as the main lane, others as spares by hand.
    const next = new Map<number, number[]>()
    for (const one of now.members) {
      if (one.has_lane) continue
      const sure = now.suppliers.find((by) => cells.value.get(`${one.sku_id}-${by.id}`)?.decision === 'open')
      if (sure) next.set(one.sku_id, [sure.id])
    }
    picked.value = next
  },
  { immediate: true },
)
function toggle(cell: Cell) {
  const next = new Map(picked.value)
  const mine = next.get(cell.sku_id) ?? []
  next.set(cell.sku_id, mine.includes(cell.supplier_id) ? mine.filter((one) => one !== cell.supplier_id) : [...mine, cell.supplier_id])
  picked.value = next
}
const rows = computed(() =>
  (data.value?.members ?? []).map((one) => ({
    one,
    places: data.value!.suppliers.map((by) => ({
      by: by.id,
      cell: cells.value.get(`${one.sku_id}-${by.id}`),
      at: (picked.value.get(one.sku_id) ?? []).indexOf(by.id),
    })),
  })),
)
const picks = computed(() =>
  [...picked.value].flatMap(([sku, suppliers]) =>
    suppliers.map((supplier, use) => {
      const has = data.value?.members.find((one) => one.sku_id === sku)?.has_lane
      return {
        sku_id: sku,
        item_id: cells.value.get(`${sku}-${supplier}`)!.item_id,
        units: cells.value.get(`${sku}-${supplier}`)!.units,
        use: has ? 99 : use,
      }
    }),
  ),
)
async function open() {
  if (await act(() => take(api.POST('/api/v1/lanes/many', { body: { picks: picks.value } })))) emit('close')
}
</script>

<template>
  <Modal
    :open="true"
    title="Sizes and colours of one thing"
    message="Each item goes to the size that it is likest to. Click a place to choose it: the first is the main lane, the next its spare."
    broad
    @close="emit('close')"
  >
    <Sight :of="asked" :lines="4" />
    <p v-if="data && !data.suppliers.length" class="text-soft">No supplier has anything like it.</p>
    <div v-else-if="data" class="max-h-[56vh] overflow-auto">
      <table class="w-full">
        <thead class="sticky top-0 bg-sheet">
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th class="min-w-48 px-2">SKU</th>
            <th v-for="by in data.suppliers" :key="by.id" class="min-w-52 px-2">{{ by.name }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="{ one, places } in rows" :key="one.sku_id" class="border-b border-rule-2">
            <td class="px-2 py-1.5">
              <span class="block max-w-64 truncate font-semibold" :title="one.title">{{ one.title }}</span><span class="code text-soft">{{
                one.sku
              }}</span>
              <Tag v-if="one.has_lane" class="ml-1">has a lane</Tag>
            </td>
            <td v-for="{ by, cell, at } in places" :key="by" class="p-1 align-top">
              <button
                v-if="cell"
                type="button"
                class="block w-full rounded border px-2 py-1 text-left"
                :class="at >= 0 ? 'border-pine bg-pine-wash' : 'border-rule-2 hover:border-faint'"
                :aria-pressed="at >= 0"
                :title="cell.title"
                @click="toggle(cell)"
              >
                <span class="flex items-center justify-between gap-2"
                  ><span class="code truncate">{{ cell.number }}{{ cell.units === '1' ? '' : ` × ${cell.units}` }}</span
                  ><Tag v-if="at >= 0" tone="good">{{ one.has_lane ? 'spare' : at ? `spare ${at}` : 'main' }}</Tag></span
                >
                <span class="flex items-center justify-between gap-2"
                  ><span
                    ><b v-if="cell.landed" class="mr-1.5">{{ money(cell.landed) }}</b>
                    <span class="text-soft">{{ cell.stock < 0 ? '' : `${count(cell.stock)} there` }}</span></span
                  ><LikenessBar :score="cell.score" :decision="cell.decision"
                /></span>
                <span v-if="cell.differs.length" class="block truncate text-2xs text-brick">{{ cell.differs[0] }}</span>
              </button>
              <span v-else class="block px-2 py-1 text-soft">–</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <template #acts
      ><Btn @click="emit('close')">Close</Btn
      ><Btn kind="main" :disabled="!picks.length" @click="open">{{
        picks.length ? `Open ${plural(picks.length, 'lane')}` : 'Nothing chosen'
      }}</Btn></template
    >
  </Modal>
</template>
