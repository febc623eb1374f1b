<script setup lang="ts">
/** Up to five items side by side; the best of each line stands out. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import StockBars from '@/parts/StockBars.vue'
import { count, money, number, percent } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { compareQuery } from './queries'

type One = Schema<'BenchOut'>
const props = defineProps<{ ids: number[]; store: number }>()
const emit = defineEmits<{ close: []; put: [ids: number[]] }>()
const asked = useQuery(computed(() => compareQuery(props.ids, props.store)))
const { data } = asked
interface Line {
  name: string
  show: (one: One) => string
  /** What decides; the highest is best unless `low`. */
  of?: (one: One) => number | null
  low?: boolean
}
const LINES: Line[] = [
  { name: 'Supplier', show: (one) => `${one.row.supplier}, ${one.row.origin}` },
  { name: 'Options', show: (one) => one.row.options || '–' },
  {
    name: 'Pack, weight',
    show: (one) => `${one.pack_size > 1 ? `${one.pack_size}, ` : ''}${one.weight_g ? `${count(one.weight_g)} g` : '–'}`,
  },
  {
    name: 'Arrives',
    show: (one) => (one.row.days === null ? 'not sent' : `${one.row.days_low} to ${one.row.days} days`),
    of: (one) => one.row.days ?? null,
    low: true,
  },
  { name: 'Landed cost', show: (one) => money(one.row.lands), of: (one) => (one.row.lands ? number(one.row.lands) : null), low: true },
  { name: 'You’d sell at', show: (one) => money(one.row.price) },
  { name: 'Profit', show: (one) => money(one.row.profit), of: (one) => (one.row.profit ? number(one.row.profit) : null) },
  {
    name: 'Margin',
    show: (one) => (one.row.margin === null || one.row.margin === undefined ? '–' : percent(one.row.margin / 100)),
    of: (one) => one.row.margin ?? null,
  },
  { name: 'In stock now', show: (one) => (one.row.stock < 0 ? 'not told' : count(one.row.stock)), of: (one) => one.row.stock },
  { name: 'Days in stock of 60', show: (one) => (one.row.in_stock < 0 ? '–' : String(one.row.in_stock)), of: (one) => one.row.in_stock },
  { name: 'Cost moves in 60 days', show: (one) => String(one.row.moves), of: (one) => one.row.moves, low: true },
  { name: 'Ours', show: (one) => one.row.have || (one.row.like ? `like ${one.row.like}, ${one.row.likeness}` : '–') },
]
const best = computed(() =>
  LINES.map((line) => {
    if (!line.of || !data.value) return null
    const values = data.value.map(line.of).filter((value): value is number => value !== null)
    return new Set(values).size > 1 ? (line.low ? Math.min(...values) : Math.max(...values)) : null
  }),
)
</script>

<template>
  <Modal open wide title="Side by side" message="The best of each line stands out in pine." @close="emit('close')">
    <Sight :of="asked" :lines="8" />
    <table v-if="data" class="w-full table-fixed">
      <thead>
        <tr class="border-b border-rule align-bottom">
          <th class="w-32" />
          <th v-for="one in data" :key="one.row.id" class="px-2 pb-2">
            <span class="code block text-xs font-normal text-soft">{{ one.row.number }}</span><span class="line-clamp-3">{{
              one.row.title
            }}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(line, n) in LINES" :key="line.name" class="border-b border-rule-2 align-top">
          <th class="py-1.5 font-normal text-soft">{{ line.name }}</th>
          <td
            v-for="one in data"
            :key="one.row.id"
            class="px-2 py-1.5"
            :class="best[n] !== null && line.of && line.of(one) === best[n] ? 'font-bold text-pine' : ''"
          >
            {{ line.show(one)
            }}<StockBars v-if="line.name === 'In stock now'" :stock="one.row.past" :days="one.row.in_stock" class="mt-1" />
          </td>
        </tr>
        <tr>
          <th />
          <td v-for="one in data" :key="one.row.id" class="px-2 pt-3">
            <Btn small @click="emit('put', [one.row.id])">Put on the shelf</Btn>
          </td>
        </tr>
      </tbody>
    </table>
    <template #acts
      ><Btn @click="emit('close')">Close</Btn
      ><Btn kind="main" @click="emit('put', ids)">Put all {{ ids.length }} on the shelf</Btn></template
    >
  </Modal>
</template>
