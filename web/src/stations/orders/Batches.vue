<script setup lang="ts">
/** Purchase orders paid together: each batch with its sum, as planned and as billed, and its statement as a sheet. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import When from '@/parts/When.vue'
import { amountOf, count, money, number, plural } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { partnersQuery } from '@/stations/setup/queries'
import { batchesQuery } from './queries'

const asked = useQuery(batchesQuery())
const { data } = asked
const { data: partners } = useQuery(partnersQuery())
const suppliers = computed(() => (partners.value ?? []).filter((one) => one.owner === 'supplier'))
const supplier = ref(0)
const pay = (code: string) => act(() => take(api.POST('/api/v1/batches/{code}/paid', { params: { path: { code } } })))
const collect = () => act(() => take(api.POST('/api/v1/batches', { body: { supplier: supplier.value } })))
/** What was billed above the plan, once all bills have come. */
const over = (one: Schema<'BatchOut'>) => number(one.billed) - number(one.planned)
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-col gap-3 overflow-auto p-4.5">
    <div class="flex items-center gap-3">
      <h1>Paid together</h1>
      <p class="text-soft">one sum to pay; each order inside is followed alone</p>
      <select v-model.number="supplier" class="field ml-auto w-56!" aria-label="Supplier">
        <option :value="0" disabled>choose a supplier</option>
        <option v-for="one in suppliers" :key="one.id" :value="one.id">{{ one.name }}</option></select
      ><Btn :disabled="!supplier" @click="collect">Put together what is unpaid</Btn>
    </div>
    <div class="sheet">
      <Sight :of="asked" />
      <table v-if="data?.length" class="w-full">
        <thead>
          <tr class="h-8 text-2xs text-soft">
            <th class="px-3.5">Batch</th>
            <th class="px-2">Supplier</th>
            <th class="px-2 text-right">Orders</th>
            <th class="px-2 text-right">Sum as planned</th>
            <th class="px-2 text-right">Billed so far</th>
            <th class="px-2 text-right">Bills</th>
            <th class="px-2 text-right">Over the plan</th>
            <th class="px-2 text-right">Made</th>
            <th class="px-3.5" />
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in data" :key="one.code" class="h-10 border-t border-rule-2">
            <td class="code px-3.5">{{ one.code }}</td>
            <td class="px-2">{{ one.supplier }}</td>
            <td class="px-2 text-right">
              <RouterLink class="text-slate hover:underline" :to="`/orders?state=all&words=${one.code}`">{{
                count(one.count)
              }}</RouterLink><span v-if="one.gone" class="text-soft" :title="`${plural(one.gone, 'order')} refused or stopped since`"
                >, {{ one.gone }} fell out</span
              >
            </td>
            <td class="px-2 text-right font-bold">{{ money(one.planned) }}</td>
            <td class="px-2 text-right">{{ money(one.billed) }}</td>
            <td class="px-2 text-right">{{ one.bills }} of {{ one.count }}</td>
            <td class="px-2 text-right" :class="one.bills === one.count && over(one) > 0 ? 'font-bold text-brick' : ''">
              {{ one.bills === one.count ? amountOf(over(one), one.planned.currency, true) : '–' }}
            </td>
            <td class="px-2 text-right text-soft"><When :at="one.made_at" clock /></td>
            <td class="px-3.5 text-right whitespace-nowrap">
              <Btn v-if="one.count && !one.paid_at" class="mr-2" small @click="pay(one.code)">It is paid</Btn
              ><span v-else-if="one.paid_at" class="mr-2 text-soft">paid <When :at="one.paid_at" clock /></span
              ><a class="text-slate hover:underline" :href="`api/v1/batches/${one.code}/statement.xlsx`">Statement</a>
            </td>
          </tr>
        </tbody>
      </table>
      <Empty
        v-else-if="data"
        title="Nothing is paid together yet"
        message="Tick “one payment per supplier” when you send, or put together here what is unpaid."
      />
    </div>
  </section>
</template>
