<script setup lang="ts">
/** What would be cheaper from a depot: each SKU that sells steadily, by its lane now against bought in bulk and sent from there. */
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { useDebounce } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import type { Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import RowTable from '@/parts/RowTable.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { count, fixed, money, number, plural } from '@/parts/format'
import { useRowKeys } from '@/parts/rowKeys'
import AskedList from './AskedList.vue'
import HoldForm from './HoldForm.vue'
import { chance, worthOfQuery, worthQuery, type Worth } from './depot'

defineProps<{ depots: Schema<'DepotOut'>[] }>()
const route = useRoute()
const asked = useQuery(worthQuery())
const rows = computed(() => (asked.data.value?.rows ?? []).filter((one) => number(one.saving) > 0 || all.value))
const all = ref(false)
const holding = ref<Worth | null>(null)
const active = useRowKeys('Worth holding', 'SKU', () => rows.value.length, [
  { key: 'a', message: 'ask the depot to hold it', run: () => row.value && !row.value.state && (holding.value = row.value) },
])
const row = computed<Worth | undefined>(() => rows.value[active.value])
const times = ref(100)
watch(row, () => (times.value = 100))
const slow = useDebounce(times, 200)
const whatIf = useQuery(computed(() => ({ ...worthOfQuery(row.value?.sku ?? 0, slow.value / 100), placeholderData: keepPreviousData })))
const seen = computed<Worth | undefined>(() =>
  slow.value === 100
    ? row.value
    : (whatIf.data.value?.find((one) => one.depot === row.value?.depot && one.sku === row.value.sku) ?? row.value),
)
const waits = computed(() => (asked.data.value?.asked ?? []).filter((one) => one.state !== 'refused').length)
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)_340px] max-[1180px]:grid-cols-[minmax(0,1fr)_300px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5">
      <AskedList
        v-if="asked.data.value?.asked.length"
        :rows="asked.data.value.asked"
        :open="waits > 0"
        :answer="String(route.query.answer ?? '')"
      />
      <div class="flex items-center gap-3">
        <p class="text-soft">By what sold on the days it could be sold, with a first load that lasts about six weeks.</p>
        <span class="ml-auto" />
        <label class="flex items-center gap-1.5 text-xs"><input v-model="all" type="checkbox" /> also those that save nothing</label>
      </div>
      <div class="sheet min-h-0 overflow-auto">
        <Sight
          :of="asked"
          :lines="8"
          :empty="!rows.length"
          title="Nothing is worth holding yet"
          message="A SKU shows up here once it has sold on eight days or more and would be cheaper from the depot, storage included."
        >
          <RowTable
            v-slot="{ one }"
            :heads="['SKU', 'A day', 'Now', 'Depot', 'Days', 'Saves a month', 'First load', 'Pays back in']"
            :right="[1, 2, 3, 4, 5, 6, 7]"
            tight
            :rows="rows"
            :key-of="(one) => `${one.sku}-${one.depot}`"
            :active="active"
            @choose="active = $event"
          >
            <th scope="row" class="max-w-60 px-2 font-normal">
              <span class="block truncate font-semibold" :title="one.title">{{ one.title }}</span><span class="code text-soft">{{
                one.code
              }}</span>
            </th>
            <td class="px-2 text-right">{{ fixed(one.pace, 1) }}</td>
            <td class="px-2 text-right">{{ money(one.direct) }}</td>
            <td class="px-2 text-right">{{ money(one.landed) }}</td>
            <td class="px-2 text-right whitespace-nowrap">{{ one.direct_days }} → {{ one.days }}</td>
            <td class="px-2 text-right font-bold" :class="number(one.saving) < 0 ? 'text-brick' : ''">{{ money(one.saving) }}</td>
            <td class="px-2 text-right">{{ money(one.tied) }}</td>
            <td class="px-2 text-right whitespace-nowrap">
              {{ one.payback === null ? 'never' : one.payback > 24 ? 'over 2 years' : `${fixed(one.payback, 1)} months` }}
            </td>
          </RowTable>
        </Sight>
      </div>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="What it would cost">
      <template v-if="row && seen">
        <p class="code">{{ row.code }}</p>
        <h1 class="mt-0.5">{{ row.title }}</h1>
        <p class="mt-1.5">
          {{ number(seen.saving) > 0 ? 'Saves' : 'Costs' }} <b>{{ money(seen.saving).replace('−', '') }}</b>{{
            number(seen.saving) > 0 ? '' : ' more'
          }}
          a month from {{ row.depot_name }}, and arrives in {{ plural(row.days, 'day') }} instead of {{ row.direct_days }}.
        </p>
        <table class="mt-3 w-full">
          <tbody>
            <tr v-for="one in seen.parts" :key="one.name" class="h-7 border-b border-rule-2">
              <th scope="row" class="font-normal">{{ one.name }}</th>
              <td class="text-right">{{ money(one.amount) }}</td>
            </tr>
            <tr class="h-7 border-b border-rule-2 font-bold">
              <th scope="row">Landed from the depot</th>
              <td class="text-right">{{ money(seen.landed) }}</td>
            </tr>
            <tr class="h-7 border-b border-rule-2">
              <th scope="row" class="font-normal">Landed by its lane now</th>
              <td class="text-right">{{ money(seen.direct) }}</td>
            </tr>
          </tbody>
        </table>
        <p class="mt-2 text-soft">
          A first load of {{ count(seen.units) }} from {{ row.supplier }} ties up {{ money(seen.tied) }}; a unit lies there
          {{ plural(seen.days_there, 'day') }} in the mean. Chance that a part is unsold after half a year:
          <b :class="seen.dead > 0.2 ? 'text-brick' : 'text-ink'">{{ chance(seen.dead) }}</b>.
        </p>
        <label class="mt-3 block"
          ><span class="label">If it sold {{ times }} % of now, {{ fixed((row.pace * times) / 100, 1) }} a day</span
          ><input v-model.number="times" type="range" min="20" max="200" step="10" class="w-full accent-pine"
        /></label>
        <p v-if="row.guessed" class="mt-2 text-xs text-amber-ink">
          Its measures are guessed from its weight ({{ count(row.weight_g) }} g); measure it when you ask.
        </p>
        <p class="mt-3">
          <Btn v-if="!row.state || row.state === 'ended'" kind="main" hint="A" @click="holding = row"
            >Ask {{ row.depot_name }} to hold it</Btn
          ><Tag v-else tone="plain">{{ row.depot_name }} was asked</Tag>
        </p>
      </template>
      <p v-else class="text-soft">Choose a SKU to see what it would cost from the depot, part by part.</p>
    </aside>
    <HoldForm v-if="holding" :of="holding" @close="holding = null" />
  </div>
</template>
