<script setup lang="ts">
/** One SKU at a depot in full: why so many and now, its days ahead, a unit from here and direct, and how it is held. */
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { useDebounce } from '@vueuse/core'
import { computed, ref } from 'vue'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import { count, fixed, money, percent, plural } from '@/parts/format'
import { homeMoney } from '@/parts/home'
import Fan from './Fan.vue'
import HeldForm from './HeldForm.vue'
import { chance, heldQuery, notNow, openLane, order, type Held } from './depot'

const props = defineProps<{ row: Held; today: string }>()
const typed = ref<number | null>(null)
const later = useDebounce(typed, 250)
const asked = useQuery(computed(() => ({ ...heldQuery(props.row.id, later.value ?? undefined), placeholderData: keepPreviousData })))
const full = computed(() => asked.data.value)
const units = computed(() => typed.value ?? props.row.order)
const cost = computed(() => homeMoney(Number(full.value?.unit_cost.amount ?? 0) * units.value))
const editing = ref(false)
const parts = [
  ['goods', 'Goods, freight in'],
  ['stored', 'Storage, pick, pack'],
  ['parcel', 'Parcel'],
] as const
</script>

<template>
  <div>
    <p class="code">{{ row.sku }}</p>
    <h1 class="mt-0.5">{{ row.order ? `Order ${count(row.order)} today` : row.title }}</h1>
    <p v-if="row.order" class="text-soft">{{ row.title }}</p>
    <Sight :of="asked" :lines="6">
      <template v-if="full">
        <p class="mt-1.5">
          It sells <b>{{ fixed(row.mean, 1) }} a day</b>; a load takes
          <b>{{ full.lead_seen > 1 ? `${count(full.lead_days)} ± ${count(full.lead_sd)}` : `about ${count(full.lead_days)}` }} days</b>
          <span class="text-soft">{{ full.lead_seen ? ` (by ${plural(full.lead_seen, 'load')})` : ' (as they say)' }}</span>. With
          {{ count(row.there) }} there{{ row.coming ? ` and ${count(row.coming)} on the way` : '' }}, the next look is in
          {{ plural(full.review, 'day') }}: if it is ordered only then, the chance of running out before it arrives is
          <b :class="row.run_out > 1 - full.service / 100 ? 'text-brick' : ''">{{ chance(row.run_out) }}</b>; you allow
          {{ percent(100 - full.service, 1) }}.
        </p>
        <Fan
          class="mt-3"
          :ahead="full.with_order ?? full.row.ahead"
          :arrivals="full.with_order ? full.with_arrivals : full.row.arrivals"
          :there="Math.max(row.there - row.promised, 0)"
          :point="row.point"
          :today="today"
        />
        <label v-if="row.state === 'agreed' && full.source" class="mt-3 flex items-center gap-2">
          <span class="text-soft">Order</span>
          <input
            :value="units"
            type="number"
            min="0"
            :step="full.inner"
            class="field w-24! text-right"
            aria-label="Units to order"
            @input="typed = Math.max(0, Math.round(Number(($event.target as HTMLInputElement).value) || 0))"
          />
          <span class="text-soft">units, {{ full.carton }} in a carton</span>
        </label>
        <p class="mt-2.5 flex flex-wrap gap-2">
          <Btn v-if="units && full.source" kind="main" hint="A" @click="order([{ held: row.id, units }])"
            >Order {{ count(units) }}, {{ cost }}</Btn
          >
          <Btn v-if="row.order" hint="S" @click="notNow(row.id)">Not now</Btn>
          <Btn v-if="row.main === null" hint="M" @click="openLane(row.id, 0)">Make it the main lane</Btn>
          <Btn v-if="row.main === null" small kind="link" @click="openLane(row.id, 1)">or a spare</Btn>
        </p>
        <p v-if="full.quiet_until" class="mt-2 text-xs text-soft">Nothing is proposed before {{ full.quiet_until }}.</p>
        <h2 class="mt-4">One unit, from the depot or direct</h2>
        <table class="mt-1 w-full">
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th><span class="sr-only">Part</span></th>
              <th class="text-right">Depot</th>
              <th class="text-right">{{ full.direct_unit ? full.direct_unit.name : 'Direct' }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="[key, label] in parts" :key="key" class="h-7 border-b border-rule-2">
              <th scope="row" class="font-normal">{{ label }}</th>
              <td class="text-right">{{ money(full.depot_unit?.[key]) }}</td>
              <td class="text-right">{{ money(full.direct_unit?.[key]) }}</td>
            </tr>
            <tr class="h-7 border-b border-rule-2 font-bold">
              <th scope="row">Landed cost</th>
              <td class="text-right">{{ money(full.depot_unit?.landed) }}</td>
              <td class="text-right">{{ money(full.direct_unit?.landed) }}</td>
            </tr>
            <tr class="h-7 border-b border-rule-2">
              <th scope="row" class="font-normal text-soft">Arrives in</th>
              <td class="text-right">{{ full.depot_unit ? plural(full.depot_unit.days, 'day') : '–' }}</td>
              <td class="text-right">{{ full.direct_unit ? plural(full.direct_unit.days, 'day') : '–' }}</td>
            </tr>
          </tbody>
        </table>
        <p class="mt-2 text-soft">
          <template v-if="full.saving">
            At its pace that {{ Number(full.saving.amount) < 0 ? 'costs' : 'saves' }}
            <b class="text-ink">{{ money(full.saving).replace('−', '') }}</b> a month.
          </template>
          Storage is {{ money(full.storage_month) }} a month; the stock cost {{ money(full.value) }}.
        </p>
        <h2 class="mt-4">How it is held</h2>
        <p class="mt-1 text-soft">
          {{ full.sides.join(' × ') }} mm, {{ count(full.weight_g) }} g{{ full.inner > 1 ? `, in packs of ${full.inner}` : '' }};
          {{ full.source ? `bought as ${full.source} from ${full.supplier}` : 'sent by us' }}. It shall be there on
          {{ percent(full.service, 1) }} of days{{ full.own_service ? '' : ', as the house wishes' }}. Sales of {{ full.days_known }} days
          are looked at.
        </p>
        <ul v-if="full.seasons.length" class="mt-1 text-soft">
          <li v-for="one in full.seasons" :key="one.first + one.name">
            {{ one.name || 'Season' }}: {{ fixed(one.times / 1_000_000, 1) }} times as much, {{ one.first }} to {{ one.last }}
          </li>
        </ul>
        <p class="mt-2 flex flex-wrap gap-2">
          <Btn small @click="editing = true">Change</Btn>
          <RouterLink :to="`/depot?view=ledger&sku=${row.id}`"><Btn small>Its ledger</Btn></RouterLink>
        </p>
        <HeldForm v-if="editing" :of="full" @close="editing = false" />
      </template>
    </Sight>
  </div>
</template>
