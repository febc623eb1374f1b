<script setup lang="ts">
/** Buying accounts: what may be bought by each in a day, what is left of it today, and whether its orders go by themselves. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { ApiError, api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { count, inField, money, plainOf } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { home } from '@/parts/home'
import { accountsQuery, partnersQuery } from './queries'

type Row = Schema<'AccountOut'>
const asked = useQuery(accountsQuery())
const { data } = asked
const { data: partners } = useQuery(partnersQuery())
const suppliers = computed(() => (partners.value ?? []).filter((one) => one.owner === 'supplier'))
const SENDS: Record<string, string> = { hand: 'by hand', once: 'at once', after: 'after minutes' }
const form = reactive({ supplier: 0, name: '', cap_money: '', cap_orders: '', send: '', send_minutes: '' })
const editing = ref<Row | 'new' | null>(null)
const error = ref('')
const wrong = ref<Record<string, string>>({})
function edit(row: Row | 'new') {
  const old = row === 'new' ? null : row
  Object.assign(form, {
    supplier: old?.supplier ?? suppliers.value[0]?.id ?? 0,
    name: old?.name ?? '',
    cap_money: inField(old?.cap_money?.amount),
    cap_orders: String(old?.cap_orders ?? ''),
    send: old?.send ?? '',
    send_minutes: String(old?.send_minutes ?? ''),
  })
  error.value = ''
  wrong.value = {}
  editing.value = row
}
const currency = () => suppliers.value.find((one) => one.id === form.supplier)?.currency ?? home.value
async function keep() {
  const row = editing.value === 'new' ? null : editing.value
  const whole = (text: string) => (text.trim() ? Number(text) : null)
  try {
    const done = await take(
      api.POST('/api/v1/accounts', {
        body: {
          id: row?.id ?? null,
          version: row?.version ?? null,
          supplier: form.supplier,
          name: form.name,
          cap_money: form.cap_money.trim() ? { amount: plainOf(form.cap_money), currency: currency() } : null,
          cap_orders: whole(form.cap_orders),
          send: form.send || null,
          send_minutes: form.send === 'after' ? (whole(form.send_minutes) ?? 0) : null,
        },
      }),
    )
    editing.value = null
    void act(() => Promise.resolve(done))
  } catch (problem) {
    error.value = wordsOf(problem)
    wrong.value = problem instanceof ApiError ? problem.fields : {}
  }
}
const remove = (row: Row) =>
  act(() => take(api.POST('/api/v1/accounts/{number}/remove', { params: { path: { number: row.id }, query: { version: row.version } } })))
const sends = (row: Row) =>
  !row.send ? 'as the limits say' : row.send === 'after' ? `after ${count(row.send_minutes ?? 0)} min` : SENDS[row.send]
</script>

<template>
  <section class="sheet max-w-6xl p-4">
    <div class="mb-1 flex items-center">
      <h2>Buying accounts</h2>
      <p class="ml-3 text-soft">What may be bought at a supplier in a day. Orders over it wait, and those that earn most go first.</p>
      <Btn class="ml-auto" @click="edit('new')">Add an account</Btn>
    </div>
    <Sight :of="asked" :lines="2" />
    <table v-if="data?.length" class="w-full">
      <thead>
        <tr class="h-7 text-2xs text-soft">
          <th class="pr-2">Supplier</th>
          <th class="px-2">Account</th>
          <th class="px-2 text-right">Money a day</th>
          <th class="px-2 text-right">left today</th>
          <th class="px-2 text-right">Orders a day</th>
          <th class="px-2 text-right">left today</th>
          <th class="px-2">Its orders go</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in data" :key="row.id" class="h-9 border-t border-rule-2">
          <td class="pr-2 font-semibold">{{ row.supplier_name }}</td>
          <td class="px-2">{{ row.name }}</td>
          <td class="px-2 text-right">{{ row.cap_money ? money(row.cap_money) : 'any' }}</td>
          <td class="px-2 text-right">{{ row.left_money ? money(row.left_money) : '–' }}</td>
          <td class="px-2 text-right">{{ row.cap_orders ?? 'any' }}</td>
          <td class="px-2 text-right">{{ row.left_orders ?? '–' }}</td>
          <td class="px-2">{{ sends(row) }}</td>
          <td class="text-right whitespace-nowrap">
            <Btn small @click="edit(row)">Change</Btn><Btn class="ml-1" small @click="remove(row)">Take away</Btn>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="data" class="text-soft">None yet: any amount may be bought everywhere.</p>
    <Modal v-if="editing" open :title="editing === 'new' ? 'Add a buying account' : `Limits of ${editing.name}`" @close="editing = null">
      <form class="grid grid-cols-2 gap-3" @submit.prevent="keep">
        <label
          ><span class="label">Supplier</span
          ><select v-model.number="form.supplier" class="field" :disabled="editing !== 'new'">
            <option v-for="one in suppliers" :key="one.id" :value="one.id">{{ one.name }}</option>
          </select></label
        >
        <label
          ><span class="label">Name of the account</span><input v-model="form.name" class="field" maxlength="80" /><span
            v-if="wrong.name"
            class="text-xs text-brick"
            >{{ wrong.name }}</span
          ></label
        >
        <label
          ><span class="label">Money a day, {{ currency() }}</span
          ><input v-model="form.cap_money" class="field" inputmode="decimal" maxlength="14" placeholder="any" /><span
            v-if="wrong.cap_money"
            class="text-xs text-brick"
            >{{ wrong.cap_money }}</span
          ></label
        >
        <label
          ><span class="label">Purchase orders a day</span
          ><input v-model="form.cap_orders" class="field" inputmode="numeric" maxlength="7" placeholder="any"
        /></label>
        <label
          ><span class="label">Its orders go</span
          ><select v-model="form.send" class="field">
            <option value="">as the limits say</option>
            <option v-for="(word, key) in SENDS" :key="key" :value="key">{{ word }}</option>
          </select></label
        >
        <label v-if="form.send === 'after'"
          ><span class="label">Minutes in which they may be stopped</span
          ><input v-model="form.send_minutes" class="field" inputmode="numeric" maxlength="5"
        /></label>
        <button type="submit" class="hidden" />
      </form>
      <p v-if="error" role="alert" class="mt-2 text-brick">{{ error }}</p>
      <template #acts><Btn @click="editing = null">Cancel</Btn><Btn kind="main" @click="keep">Save</Btn></template>
    </Modal>
  </section>
</template>
