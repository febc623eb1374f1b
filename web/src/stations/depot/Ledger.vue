<script setup lang="ts">
/** The ledger of one SKU at a depot: every movement, what was there after it, and the depot's own word beside ours. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { count, dateOf, money, timeOf } from '@/parts/format'
import { ENTRY_WORDS, ledgerQuery, type Held } from './depot'

const props = defineProps<{ rows: Held[] }>()
const route = useRoute()
const router = useRouter()
const held = computed(() => Number(route.query.sku) || props.rows[0]?.id || 0)
const asked = useQuery(computed(() => ledgerQuery(held.value)))
const data = asked.data
const choose = (event: Event) => void router.replace({ query: { view: 'ledger', sku: (event.target as HTMLSelectElement).value } })
const there = ref('')
watch(held, () => (there.value = ''))
const takeCount = (units: number) =>
  act(() =>
    take(
      api.POST('/api/v1/depot/goods/{number}/count', {
        params: { path: { number: held.value } },
        body: { version: data.value!.version, units, reason: 'the depot and we compared' },
      }),
    ),
  )
const signed = (units: number) => (units > 0 ? `+${count(units)}` : `−${count(-units)}`)
</script>

<template>
  <div class="flex flex-col gap-3 p-4.5">
    <div class="flex flex-wrap items-end gap-4">
      <label class="block"
        ><span class="label">SKU</span
        ><select class="field w-80!" :value="held" @change="choose">
          <option v-for="one in rows" :key="one.id" :value="one.id">{{ one.title }} · {{ one.sku }} · {{ one.depot }}</option>
        </select></label
      >
      <p v-if="data" class="pb-1.5">
        <b>{{ count(data.there) }}</b> there, {{ money(data.value)
        }}<template v-if="data.promised">; {{ count(data.promised) }} of them promised</template>
      </p>
      <p v-if="data && data.told_at" class="pb-1.5" :class="data.differs ? 'text-brick' : 'text-soft'">
        {{ data.depot }} says {{ count(data.told ?? 0) }} ({{ dateOf(data.told_at) }}, {{ timeOf(data.told_at) }})
      </p>
      <span class="ml-auto" />
      <Btn v-if="data?.differs && data.told !== null" small @click="takeCount(data.told)">Take their count, {{ count(data.told) }}</Btn>
    </div>
    <div class="sheet min-h-0 flex-1 overflow-auto">
      <Sight
        :of="asked"
        :lines="8"
        :empty="!data?.entries.length"
        title="Nothing has moved yet"
        message="The first load that is counted in is the first line."
      >
        <table class="w-full">
          <thead class="sticky top-0 bg-sheet">
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-2.5">When</th>
              <th class="px-2.5">What</th>
              <th class="px-2.5 text-right">Units</th>
              <th class="px-2.5 text-right">There after it</th>
              <th class="px-2.5 text-right">Worth</th>
              <th class="px-2.5 text-right">Stock worth</th>
              <th class="px-2.5">Why</th>
              <th class="px-2.5">By</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(one, n) in data!.entries" :key="n" class="h-9 border-b border-rule-2">
              <td class="px-2.5 whitespace-nowrap">{{ dateOf(one.at) }}, {{ timeOf(one.at) }}</td>
              <td class="px-2.5">
                <Tag :tone="one.units > 0 ? 'good' : one.kind === 'sent' ? 'plain' : 'loss'">{{ ENTRY_WORDS[one.kind] ?? one.kind }}</Tag>
              </td>
              <td class="px-2.5 text-right font-semibold">{{ signed(one.units) }}</td>
              <td class="px-2.5 text-right">{{ count(one.there) }}</td>
              <td class="px-2.5 text-right">{{ money(one.worth) }}</td>
              <td class="px-2.5 text-right">{{ money(one.value) }}</td>
              <td class="max-w-72 truncate px-2.5" :title="one.reason">
                {{ one.reason }}<template v-if="one.lot"> · lot {{ one.lot }}</template>
              </td>
              <td class="px-2.5 text-soft">{{ one.who }}</td>
            </tr>
          </tbody>
        </table>
      </Sight>
    </div>
  </div>
</template>
