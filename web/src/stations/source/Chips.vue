<script setup lang="ts">
/** What a search is narrowed by, read as a sentence: in … , arrives within … , lands at … */
import type { Schema } from '@/api/client'
import { count, minor, minorInField } from '@/parts/format'
import { vShown } from '../../parts/shown'

const props = defineProps<{ facets: Schema<'FacetsOut'>; values: Record<string, string> }>()
const emit = defineEmits<{ set: [name: string, value: string] }>()
const store = () => props.facets.stores.find((one) => String(one.id) === props.values.store)
const currency = () => store()?.currency ?? ''
const money = (given: string) => (given ? minorInField(Number(given), currency()).replace(/[.,]0+$/, '') : '')
function cash(name: string, event: Event) {
  const text = (event.target as HTMLInputElement).value
  const value = minor(text, currency())
  emit('set', name, Number.isFinite(value) && text.trim() ? String(value) : '')
}
function whole(name: string, event: Event) {
  const text = (event.target as HTMLInputElement).value.trim()
  emit('set', name, /^\d{1,6}$/.test(text) ? text : '')
}
const pick = (name: string, event: Event) => emit('set', name, (event.target as HTMLSelectElement).value)
const share = (one: Schema<'SupplierOut'>) => (one.of ? `, kept ${one.kept} of ${one.of} promises` : '')
</script>

<template>
  <div class="flex flex-wrap items-center gap-x-3 gap-y-1.5 text-soft">
    <label class="chip"
      >sold in<select :value="values.store" aria-label="Sold in" @change="pick('store', $event)">
        <option v-for="one in facets.stores" :key="one.id" :value="String(one.id)">{{ one.name }}</option>
      </select></label
    >
    <label class="chip" :class="values.supplier ? 'on' : ''"
      >from<select :value="values.supplier" aria-label="Supplier" @change="pick('supplier', $event)">
        <option value="">all suppliers</option>
        <option v-for="one in facets.suppliers" :key="one.id" :value="String(one.id)">
          {{ one.name }} ({{ count(one.items) }}{{ share(one) }})
        </option>
      </select></label
    >
    <label class="chip" :class="values.category ? 'on' : ''"
      >of<select :value="values.category" aria-label="Category" @change="pick('category', $event)">
        <option value="">any kind</option>
        <option v-for="one in facets.categories" :key="one">{{ one }}</option>
      </select></label
    >
    <label class="chip" :class="values.ships_from ? 'on' : ''"
      >sent from<select :value="values.ships_from" aria-label="Sent from" @change="pick('ships_from', $event)">
        <option value="">anywhere</option>
        <option v-for="one in facets.ships_from" :key="one">{{ one }}</option>
      </select></label
    >
    <label class="chip" :class="values.days ? 'on' : ''"
      >arrives in {{ store()?.country }} within<input
        v-shown="values.days"
        class="w-10"
        inputmode="numeric"
        placeholder="any"
        aria-label="Days to arrive, at most"
        @change="whole('days', $event)"
      />days</label
    >
    <label class="chip" :class="values.lands_most ? 'on' : ''"
      >landed cost up to<input
        v-shown="money(values.lands_most ?? '')"
        class="w-12"
        inputmode="decimal"
        placeholder="any"
        aria-label="Landed cost, at most"
        @change="cash('lands_most', $event)"
      />{{ store()?.currency }}</label
    >
    <label class="chip" :class="values.keeps_least ? 'on' : ''"
      >profit at least<input
        v-shown="money(values.keeps_least ?? '')"
        class="w-12"
        inputmode="decimal"
        placeholder="any"
        aria-label="Profit, at least"
        @change="cash('keeps_least', $event)"
      />{{ store()?.currency }}</label
    >
    <label class="chip" :class="values.stock_least ? 'on' : ''"
      >stock from<input
        v-shown="values.stock_least"
        class="w-10"
        inputmode="numeric"
        placeholder="any"
        aria-label="Stock, at least"
        @change="whole('stock_least', $event)"
    /></label>
    <label class="chip" :class="values.rating_least ? 'on' : ''"
      >on time<select :value="values.rating_least" aria-label="Delivered on time by the supplier" @change="pick('rating_least', $event)">
        <option value="">whatever</option>
        <option value="80">80 % or more</option>
        <option value="90">90 % or more</option>
        <option value="95">95 % or more</option>
      </select></label
    >
    <label class="chip" :class="values.ours ? 'on' : ''"
      ><select :value="values.ours" aria-label="What we have" @change="pick('ours', $event)">
        <option value="">ours or not</option>
        <option value="no">not ours yet</option>
        <option value="yes">ours already</option>
      </select></label
    >
  </div>
</template>

<style scoped>
@reference '../../style.css';
.chip {
  @apply flex items-center gap-1.5 rounded border border-transparent;
}
.chip select,
.chip input {
  @apply h-6 max-w-44 rounded border border-rule bg-rule-2 px-1.5 text-xs font-semibold text-ink;
}
.chip.on select,
.chip.on input {
  @apply border-asphalt-2 bg-asphalt-2 text-sheet;
}
</style>
