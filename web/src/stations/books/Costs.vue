<script setup lang="ts">
/** Fixed costs a month, months that are closed, and the tax of a period. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import SheetIn from '@/parts/SheetIn.vue'
import SheetOut from '@/parts/SheetOut.vue'
import Sight from '@/parts/Sight.vue'
import { useForm } from '@/parts/form'
import { home } from '@/parts/home'
import { count, fullTime, inField, money, monthOf as monthName, plainOf } from '@/parts/format'
import PeriodBar from './PeriodBar.vue'
import WeeklyMail from './WeeklyMail.vue'
import { costsQuery, taxQuery, useBooks } from './books'
import { feesQuery } from '@/stations/price/queries'

const { days } = useBooks()
const asked = useQuery(costsQuery())
const taxed = useQuery(computed(() => taxQuery(days.value)))
const stores = useQuery(feesQuery())
const form = useForm()
const open = ref(false)
const bring = ref(false)
const editing = ref<Schema<'OverheadOut'> | null>(null)
const typed = ref({ name: '', amount: '', currency: '', first: '', last: '', store: '' })
const MONTH = /^\d{4}-\d{2}$/
function begin(one: Schema<'OverheadOut'> | null) {
  form.clear()
  editing.value = one
  typed.value = one
    ? {
        name: one.name,
        amount: inField(one.amount.amount),
        currency: one.amount.currency,
        first: one.first.slice(0, 7),
        last: one.last?.slice(0, 7) ?? '',
        store: String(stores.data.value?.find((store) => store.name === one.store)?.id ?? ''),
      }
    : { name: '', amount: '', currency: home.value, first: days.value.last.slice(0, 7), last: '', store: '' }
  open.value = true
}
function save() {
  const { name, amount, currency, first, last, store } = typed.value
  const body = {
    version: editing.value?.version ?? null,
    name,
    amount: { amount: plainOf(amount), currency: currency.trim().toUpperCase() },
    first: `${first}-01`,
    last: MONTH.test(last) ? `${last}-01` : null,
    store: store ? Number(store) : null,
  }
  const send = () =>
    editing.value
      ? take(api.PUT('/api/v1/books/overheads/{number}', { params: { path: { number: editing.value.id } }, body }))
      : take(api.POST('/api/v1/books/overheads', { body }))
  void form.sendAct(send, () => (open.value = false))
}
const end = (one: Schema<'OverheadOut'>) =>
  act(() =>
    take(api.POST('/api/v1/books/overheads/{number}/end', { params: { path: { number: one.id } }, body: { version: one.version } })),
  )
const close = (month: string) => act(() => take(api.POST('/api/v1/books/months', { body: { month } })))
const sheet = (form: string) => `api/v1/books/tax.${form}?${new URLSearchParams(days.value)}`
</script>

<template>
  <div class="overflow-auto p-4.5">
    <div class="flex max-w-4xl items-center gap-2">
      <h1>Fixed costs</h1>
      <span class="ml-auto" /><Btn @click="bring = true">Import</Btn><Btn kind="main" @click="begin(null)">Add a fixed cost</Btn>
    </div>
    <p class="text-soft">A month's sum is spread over its days; it stands below what the sales leave.</p>
    <div class="sheet mt-3 max-w-4xl overflow-auto">
      <Sight
        :of="asked"
        :lines="3"
        :empty="!asked.data.value?.overheads.length"
        title="No fixed costs yet"
        message="Tools, plans, advertising: what is paid each month whatever is sold."
      >
        <table class="w-full">
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-2.5">For</th>
              <th class="px-2.5">Store</th>
              <th class="px-2.5">From</th>
              <th class="px-2.5">To</th>
              <th class="px-2.5 text-right">A month</th>
              <th />
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in asked.data.value!.overheads" :key="one.id" class="h-9 border-b border-rule-2">
              <th scope="row" class="max-w-72 truncate px-2.5">{{ one.name }}</th>
              <td class="px-2.5">{{ one.store || 'all' }}</td>
              <td class="px-2.5">{{ monthName(one.first) }}</td>
              <td class="px-2.5">{{ one.last ? monthName(one.last) : 'goes on' }}</td>
              <td class="px-2.5 text-right">{{ money(one.amount) }}</td>
              <td class="space-x-1.5 px-2.5 text-right whitespace-nowrap">
                <span v-if="one.plan" class="text-xs text-soft">follows the supplier's plans</span>
                <template v-else
                  ><Btn small @click="begin(one)">Change</Btn> <Btn v-if="!one.last" small @click="end(one)">End</Btn></template
                >
              </td>
            </tr>
          </tbody>
        </table>
      </Sight>
    </div>
    <h1 class="mt-7">Months</h1>
    <p class="text-soft">
      Once a month is closed nothing of it changes: a bill or a fee that comes later counts in the month in which it comes, and says so.
    </p>
    <div class="mt-2 flex max-w-4xl flex-wrap items-center gap-2">
      <Btn v-if="asked.data.value?.next" @click="close(asked.data.value.next)">Close {{ monthName(asked.data.value.next) }}</Btn>
      <span
        v-for="one in asked.data.value?.closed ?? []"
        :key="one.month"
        class="rounded border border-rule px-2 py-1 text-xs"
        :title="`${fullTime(one.at)}, ${one.who}`"
        >{{ monthName(one.month) }} closed</span
      >
    </div>
    <div class="mt-7 flex max-w-4xl items-center gap-2">
      <h1>Tax</h1>
      <span class="ml-auto" /><PeriodBar alone /><SheetOut :csv="sheet('csv')" :xlsx="sheet('xlsx')" />
    </div>
    <div class="sheet mt-3 max-w-4xl overflow-auto">
      <Sight :of="taxed" :lines="3" :empty="!taxed.data.value?.length" title="No sale in these days" message="Choose other days.">
        <table class="w-full">
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-2.5">Country</th>
              <th class="px-2.5">Store</th>
              <th class="px-2.5 text-right">Rate</th>
              <th class="px-2.5">Handed over by</th>
              <th class="px-2.5 text-right">Orders</th>
              <th class="px-2.5 text-right">Buyers paid</th>
              <th class="px-2.5 text-right">Tax in it</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(one, n) in taxed.data.value!" :key="n" class="h-8 border-b border-rule-2">
              <th scope="row" class="px-2.5">{{ one.country || '–' }}</th>
              <td class="px-2.5">{{ one.store }}</td>
              <td class="px-2.5 text-right">{{ one.rate }} %</td>
              <td class="px-2.5">{{ one.by === 'store' ? 'the store' : 'us' }}</td>
              <td class="px-2.5 text-right">{{ count(one.orders) }}</td>
              <td class="px-2.5 text-right">{{ money(one.paid) }}</td>
              <td class="px-2.5 text-right font-bold">{{ money(one.tax) }}</td>
            </tr>
          </tbody>
        </table>
      </Sight>
    </div>
    <WeeklyMail class="mt-7 max-w-4xl" />
    <Modal
      :open="open"
      :title="editing ? `Change ${editing.name}` : 'Add a fixed cost'"
      message="It counts from the first to the last month, spread over their days. Closed months stay as they are."
      @close="open = false"
    >
      <form class="grid grid-cols-2 gap-3" @submit.prevent="save">
        <label class="col-span-2"
          ><span class="label">What it is for</span
          ><input v-model="typed.name" class="field" maxlength="120" :aria-invalid="!!form.wrong.value.name"
        /></label>
        <label
          ><span class="label">Amount a month</span
          ><input v-model="typed.amount" class="field" inputmode="decimal" maxlength="14" :aria-invalid="!!form.wrong.value.amount"
        /></label>
        <label
          ><span class="label">Currency</span
          ><input v-model="typed.currency" class="field" maxlength="3" :aria-invalid="!!form.wrong.value.currency"
        /></label>
        <label><span class="label">First month</span><input v-model="typed.first" type="month" class="field" /></label>
        <label><span class="label">Last month (empty = goes on)</span><input v-model="typed.last" type="month" class="field" /></label>
        <label class="col-span-2"
          ><span class="label">Of which store</span
          ><select v-model="typed.store" class="field">
            <option value="">of all together</option>
            <option v-for="one in stores.data.value ?? []" :key="one.id" :value="String(one.id)">{{ one.name }}</option>
          </select></label
        >
        <button type="submit" class="hidden" />
      </form>
      <p v-if="form.error.value" role="alert" class="mt-2 text-brick">{{ form.error.value }}</p>
      <template #acts
        ><Btn @click="open = false">Cancel</Btn><Btn kind="main" :disabled="form.busy.value" @click="save">Save</Btn></template
      >
    </Modal>
    <SheetIn :open="bring" sheet="overheads" title="Import fixed costs" @close="bring = false" />
  </div>
</template>
