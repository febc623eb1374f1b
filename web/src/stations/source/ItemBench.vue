<script setup lang="ts">
/** One item of a supplier: what it would be in the chosen store, to each country, and what of ours it is like. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import StockBars from '@/parts/StockBars.vue'
import Tag from '@/parts/Tag.vue'
import Waterfall from '@/parts/Waterfall.vue'
import { count, money, number } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { itemQuery } from './queries'

const props = defineProps<{ item: number; store: number }>()
const emit = defineEmits<{ put: [] }>()
const asked = useQuery(computed(() => ({ ...itemQuery(props.item, props.store), placeholderData: <T,>(before?: T) => before })))
const { data } = asked
const sample = () => act(() => take(api.POST('/api/v1/source/items/{number}/sample', { params: { path: { number: props.item } } })))
const facts = computed(() => {
  const one = data.value
  if (!one) return []
  return [
    ['Costs', money(one.cost) + (one.pack_size > 1 ? ` a pack of ${one.pack_size}` : '')],
    ['In stock', one.row.stock < 0 ? 'not told' : count(one.row.stock)],
    ['Options', one.row.options],
    ['Maker', [one.brand, one.mpn].filter(Boolean).join(', ')],
    ['Barcode', one.gtin],
    ['Weight', one.weight_g ? `${count(one.weight_g)} g` : ''],
  ].filter(([, value]) => value)
})
</script>

<template>
  <Sight :of="asked" :lines="8" />
  <div v-if="data">
    <p class="code text-soft">{{ data.row.number }}</p>
    <h1 class="text-lg!">{{ data.row.title }}</h1>
    <p class="text-soft">
      {{ data.row.supplier }}, {{ data.row.origin }} <Tag v-if="data.row.have" tone="info" class="ml-1">ours: {{ data.row.have }}</Tag
      ><Tag v-else-if="data.row.like" class="ml-1">like {{ data.row.like }}</Tag
      ><Tag v-if="data.row.offer === 'doubted'" tone="waits" class="ml-1">cost in doubt</Tag>
    </p>
    <p class="mt-2">{{ data.sentence }}</p>
    <div class="mt-3 flex flex-wrap gap-2">
      <Btn kind="main" hint="P" @click="emit('put')">Put on the shelf</Btn><Btn @click="sample">Order a sample</Btn>
    </div>
    <template v-if="data.steps.length">
      <h2 class="mt-5 mb-1">What becomes of a sale</h2>
      <Waterfall :steps="data.steps" />
    </template>
    <h2 class="mt-5 mb-1">To each country, at this price</h2>
    <table v-if="data.countries.length" class="w-full">
      <thead>
        <tr class="h-7 border-b border-rule text-2xs text-soft">
          <th>To</th>
          <th>Service</th>
          <th class="text-right">Days</th>
          <th class="text-right">Sending</th>
          <th class="text-right">Profit</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in data.countries" :key="one.country" class="h-7 border-b border-rule-2">
          <td>{{ one.country }}</td>
          <td class="truncate">{{ one.service }}</td>
          <td class="text-right">{{ one.days_low }} to {{ one.days_high }}</td>
          <td class="text-right">{{ money(one.ship) }}</td>
          <td class="text-right font-semibold" :class="number(one.keeps) < 0 ? 'text-brick' : 'text-pine'">{{ money(one.keeps) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else class="text-soft">It is sent nowhere that we know of.</p>
    <h2 class="mt-5 mb-1">Stock, 60 days</h2>
    <StockBars :stock="data.row.past" :days="data.row.in_stock" class="h-8! w-full!" />
    <dl class="mt-4 grid grid-cols-[72px_1fr] gap-y-1">
      <template v-for="[name, value] in facts" :key="name"
        ><dt class="text-soft">{{ name }}</dt>
        <dd :class="name === 'Barcode' ? 'code' : ''">{{ value }}</dd></template
      >
    </dl>
    <template v-if="data.close.length">
      <h2 class="mt-5 mb-1">Close to what you have</h2>
      <div v-for="one in data.close" :key="one.sku" class="border-b border-rule-2 py-1.5 last:border-0">
        <span class="code">{{ one.sku }}</span> <span class="text-soft">likeness {{ one.likeness }}</span>
        <span class="block truncate" :title="one.title">{{ one.title }}</span>
        <span class="block text-xs text-soft"
          >{{ one.agrees.join(', ') }}<template v-if="one.differs.length">; {{ one.differs.join(', ') }}</template></span
        >
      </div>
    </template>
  </div>
</template>
