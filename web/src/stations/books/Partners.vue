<script setup lang="ts">
/** Suppliers and stores side by side over the last four weeks. */
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import { count, money, number, percent, plural } from '@/parts/format'
import { partnersQuery } from './books'

const asked = useQuery(partnersQuery())
const { data } = asked
const chosen = ref<Schema<'SupplierCompared'> | null>(null)
const share = (good: number, of: number) => (of ? `${percent(((of - good) * 100) / of)} of ${count(of)}` : '–')
const ppm = (value: number | null) => percent(value === null ? null : value / 10_000)
const put = () =>
  act(() => take(api.POST('/api/v1/books/partners/{supplier}/first', { params: { path: { supplier: chosen.value!.id } } }))).then(
    () => (chosen.value = null),
  )
</script>

<template>
  <div class="overflow-auto p-4.5">
    <h1>Suppliers compared</h1>
    <p class="text-soft">The last four weeks. Refused and late are counted over all that was answered and decided so far.</p>
    <div class="sheet mt-3 overflow-auto">
      <Sight :of="asked" :lines="5" :empty="!data?.suppliers.length" title="No supplier is connected" message="Connect one under Set-up.">
        <table class="w-full">
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-2.5">Supplier</th>
              <th class="px-2.5 text-right max-xl:hidden">Orders</th>
              <th class="px-2.5 text-right">Profit</th>
              <th class="px-2.5 text-right">Margin</th>
              <th class="px-2.5 text-right">Refused</th>
              <th class="px-2.5 text-right">Late</th>
              <th class="px-2.5 text-right max-xl:hidden">Billed above</th>
              <th class="px-2.5 text-right">Refunds</th>
              <th class="px-2.5 text-right" title="Of what its goods cost: claimed, and not paid back">Lost on claims</th>
              <th class="px-2.5 text-right max-xl:hidden">Prices moved a week</th>
              <th class="px-2.5 text-right">Better by another</th>
              <th />
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data!.suppliers" :key="one.id" class="h-9 border-b border-rule-2 whitespace-nowrap">
              <th scope="row" class="max-w-56 truncate px-2.5">
                <RouterLink
                  class="hover:underline"
                  :to="`/books?view=profit&by=sku&only=supplier:${one.id}&named=${encodeURIComponent(one.name)}`"
                  >{{ one.name }}</RouterLink
                >
              </th>
              <td class="px-2.5 text-right max-xl:hidden">{{ count(one.orders) }}</td>
              <td class="px-2.5 text-right font-bold" :class="number(one.profit) < 0 ? 'text-brick' : ''">{{ money(one.profit) }}</td>
              <td class="px-2.5 text-right">{{ ppm(one.margin) }}</td>
              <td class="px-2.5 text-right whitespace-nowrap">{{ share(one.taken, one.answered) }}</td>
              <td class="px-2.5 text-right whitespace-nowrap">{{ share(one.in_time, one.decided) }}</td>
              <td class="px-2.5 text-right max-xl:hidden" :class="number(one.billed_more) > 0 ? 'text-brick' : ''">
                {{ money(one.billed_more) }}
              </td>
              <td class="px-2.5 text-right">{{ money(one.refunds) }}</td>
              <td class="px-2.5 text-right">{{ one.lost === null ? '–' : ppm(one.lost) }}</td>
              <td class="px-2.5 text-right max-xl:hidden">{{ count(one.changes) }}</td>
              <td class="px-2.5 text-right whitespace-nowrap">
                {{ one.better ? `${plural(one.better, 'SKU')}, ${money(one.better_a_week, true)} a week` : '–' }}
              </td>
              <td class="px-2.5 text-right"><Btn v-if="one.better" small @click="chosen = one">Put those first</Btn></td>
            </tr>
          </tbody>
        </table>
      </Sight>
    </div>
    <h1 class="mt-7">Stores compared</h1>
    <p class="text-soft">What a store really takes is by its settlements where it tells them, and as set where it does not.</p>
    <div class="sheet mt-3 overflow-auto">
      <Sight
        :of="asked"
        :lines="3"
        :empty="!data?.stores.length"
        title="Nothing was sold yet"
        message="Stores appear with their first sale."
      >
        <table class="w-full">
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-2.5">Store</th>
              <th class="px-2.5 text-right">Orders</th>
              <th class="px-2.5 text-right">Buyers paid</th>
              <th class="px-2.5 text-right">It takes</th>
              <th class="px-2.5 text-right">Refunded</th>
              <th class="px-2.5 text-right">Profit</th>
              <th class="px-2.5 text-right">Margin</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data!.stores" :key="one.id" class="h-9 border-b border-rule-2">
              <th scope="row" class="max-w-72 truncate px-2.5">
                <RouterLink
                  class="hover:underline"
                  :to="`/books?view=profit&by=category&only=store:${one.id}&named=${encodeURIComponent(one.name)}`"
                  >{{ one.name }}</RouterLink
                >
              </th>
              <td class="px-2.5 text-right">{{ count(one.orders) }}</td>
              <td class="px-2.5 text-right">{{ money(one.sales) }}</td>
              <td class="px-2.5 text-right">{{ ppm(one.takes) }}</td>
              <td class="px-2.5 text-right">{{ ppm(one.refunded) }}</td>
              <td class="px-2.5 text-right font-bold" :class="number(one.profit) < 0 ? 'text-brick' : ''">{{ money(one.profit) }}</td>
              <td class="px-2.5 text-right">{{ ppm(one.margin) }}</td>
            </tr>
          </tbody>
        </table>
      </Sight>
    </div>
    <Modal
      :open="!!chosen"
      :title="`Other suppliers first, instead of ${chosen?.name ?? ''}`"
      :message="`The spare lanes of ${plural(chosen?.better ?? 0, 'SKU')} become main: they cost less at the door, counting what was refused and late. At the pace that these sell it brings about ${money(chosen?.better_a_week)} a week. Prices follow by your rules; one Undo takes all of it back.`"
      @close="chosen = null"
    >
      <template #acts><Btn @click="chosen = null">Cancel</Btn><Btn kind="main" @click="put">Make them main</Btn></template>
    </Modal>
  </div>
</template>
