<script setup lang="ts">
/** A store's allowance: what it shows now beside what would earn most, and what that gains; applied by one key. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { count, fixed, money, number } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { allowanceQuery } from './queries'

const props = defineProps<{ stores: Schema<'ShelfStore'>[]; start?: number }>()
const emit = defineEmits<{ close: [] }>()
const at = ref(props.stores.find((one) => one.id === props.start)?.id ?? props.stores[0]!.id)
const hours = ref(24)
const asked = useQuery(computed(() => ({ ...allowanceQuery(at.value, hours.value), retry: false })))
const { data, isFetching } = asked
const lines = computed(() => {
  const one = data.value
  if (!one) return []
  return [
    ['Listings shown', count(one.listings_now), count(one.listings), one.listings_most ? `of ${count(one.listings_most)}` : 'no limit'],
    ['Units shown', count(one.units_now), count(one.units), one.units_most ? `of ${count(one.units_most)}` : 'no limit'],
    ...(one.value_most ? [['Value shown', money(one.value_now), money(one.value), `of ${money(one.value_most)}`]] : []),
    ['Expected profit', money(one.worth_now), money(one.worth), `in ${one.hours} h`],
  ]
})
const apply = async () => {
  const done = await act(() =>
    take(api.POST('/api/v1/shelf/stores/{number}/allowance', { params: { path: { number: at.value } }, body: { hours: hours.value } })),
  )
  if (done) emit('close')
}
</script>

<template>
  <Modal
    open
    wide
    title="Within the allowance"
    message="Each next unit counts by the chance that it sells before the next refresh, times what a sale keeps."
    @close="emit('close')"
  >
    <div class="mb-3 flex items-center gap-4">
      <select v-model="at" class="field w-auto!" aria-label="Store">
        <option v-for="one in stores" :key="one.id" :value="one.id">{{ one.name }}</option>
      </select>
      <label class="flex items-center gap-2 text-soft"
        >refreshed every<select v-model="hours" class="field w-auto!">
          <option :value="6">6 hours</option>
          <option :value="24">day</option>
          <option :value="72">three days</option>
          <option :value="168">week</option>
        </select></label
      >
      <span v-if="isFetching" class="text-soft">Planning…</span>
    </div>
    <Sight :of="asked" />
    <template v-if="data">
      <table class="w-full">
        <thead>
          <tr class="h-7 border-b border-rule text-2xs text-soft">
            <th />
            <th class="text-right">Now</th>
            <th class="text-right">Planned</th>
            <th class="pl-4">Limit</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="[name, now, planned, limit] in lines" :key="name" class="h-8 border-b border-rule-2">
            <th class="font-normal">{{ name }}</th>
            <td class="text-right">{{ now }}</td>
            <td class="text-right font-bold">{{ planned }}</td>
            <td class="pl-4 text-soft">{{ limit }}</td>
          </tr>
        </tbody>
      </table>
      <p class="mt-3">
        <template v-if="number(data.gains) >= 0"
          >It gains <b class="text-pine">{{ money(data.gains) }}</b> in {{ data.hours }} hours</template
        ><template v-else
          >What is shown now is more than the limit lets be. Within it, this keeps most: <b>{{ money(data.worth) }}</b> in
          {{ data.hours }} hours</template
        >; {{ count(data.moved) }} listings show another number.<template v-if="number(data.gap) > 0">
          No plan could earn more than {{ money(data.gap) }} beyond it.</template
        >
      </p>
      <div class="mt-3 max-h-64 overflow-auto rounded border border-rule">
        <table class="w-full">
          <thead class="sticky top-0 bg-sheet">
            <tr class="h-7 border-b border-rule text-2xs text-soft">
              <th class="px-3">SKU</th>
              <th class="px-2 text-right">Sells a day</th>
              <th class="px-2 text-right">Profit a sale</th>
              <th class="px-2 text-right">Shows now</th>
              <th class="px-2 text-right">Planned</th>
              <th class="px-3 text-right">Its units earn</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data.rows" :key="one.listing" class="h-7 border-b border-rule-2 last:border-0">
              <td class="code px-3">{{ one.sku }}</td>
              <td class="px-2 text-right">{{ fixed(one.pace, 2) }}</td>
              <td class="px-2 text-right" :class="number(one.profit) < 0 ? 'text-brick' : ''">{{ money(one.profit) }}</td>
              <td class="px-2 text-right">{{ one.now }}</td>
              <td class="px-2 text-right font-bold">{{ one.planned }}</td>
              <td class="px-3 text-right">{{ money(one.worth) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-if="data.moved > data.rows.length" class="mt-1 text-xs text-soft">the {{ data.rows.length }} that change most</p>
    </template>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="main" :disabled="!data?.moved" @click="apply">Show {{ data ? count(data.units) : '' }} units as planned</Btn></template
    >
  </Modal>
</template>
