<script setup lang="ts">
/** Is a membership or a volume discount worth it: from which sales on it pays, against the present pace. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { type Schema } from '@/api/client'
import { tell } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DraftModal from '@/parts/DraftModal.vue'
import Empty from '@/parts/Empty.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import { inField, major, minor, minorInField, money, number, numberOf, percent } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { plansQuery } from './queries'
import { partnersQuery } from '@/stations/setup/queries'

type Plan = Schema<'PlanBody'>
const asked = useQuery(plansQuery())
const { data } = asked
const { data: partners } = useQuery(partnersQuery())
const suppliers = computed(() => (partners.value ?? []).filter((one) => one.owner === 'supplier'))
const draft = ref<{ title: string; terms: Schema<'TermsBody'> } | null>(null)
const form = reactive({ supplier: 0, old: '', name: '', discount: '', fee: '', from: '', taken: false })
const open = ref(false)
const mine = (supplier: number): Plan[] => (data.value ?? []).filter((one) => one.supplier === supplier).map((one) => one.plan)
function show(supplier: number, plans: Plan[], title: string) {
  const one = suppliers.value.find((other) => other.id === supplier)
  if (!one?.terms) return
  const terms = one.terms as { discount: number; rebate: number; tax: number }
  draft.value = { title, terms: { supplier, version: one.version, ...terms, plans } }
}
const flip = (one: Schema<'PlanOut'>) =>
  show(
    one.supplier,
    mine(one.supplier).map((plan) => (plan.name === one.plan.name ? { ...plan, taken: !plan.taken } : plan)),
    `${one.plan.taken ? 'Without' : 'With'} ${one.plan.name} of ${one.supplier_name}`,
  )
function edit(one: Schema<'PlanOut'> | null) {
  const plan = one?.plan
  form.supplier = one?.supplier ?? suppliers.value[0]?.id ?? 0
  form.old = plan?.name ?? ''
  form.name = plan?.name ?? ''
  form.discount = plan ? inField(plan.discount / 10_000) : ''
  form.fee = plan?.fee ? minorInField(plan.fee, currency.value) : ''
  form.from = plan?.from_spend ? minorInField(plan.from_spend, currency.value) : ''
  form.taken = plan?.taken ?? false
  open.value = true
}
const amount = (text: string) => minor(text || '0', currency.value)
function keep() {
  const discount = Math.round(numberOf(form.discount) * 10_000)
  const [fee, from] = [amount(form.fee), amount(form.from)]
  if (!form.name.trim() || !(discount > 0 && discount < 1_000_000) || !(fee >= 0) || !(from >= 0))
    return tell('Give it a name, a discount such as 3, and amounts such as 29.00', true)
  const plan: Plan = { name: form.name.trim(), discount, fee, from_spend: from, taken: form.taken }
  const rest = mine(form.supplier).filter((one) => one.name !== form.old && one.name !== plan.name)
  open.value = false
  show(form.supplier, [...rest, plan], `${plan.name}`)
}
function drop() {
  open.value = false
  show(
    form.supplier,
    mine(form.supplier).filter((one) => one.name !== form.old),
    `Without ${form.old}`,
  )
}
const currency = computed(() => suppliers.value.find((one) => one.id === form.supplier)?.currency ?? '')
const bar = (one: Schema<'PlanOut'>) => Math.min(100, Math.round((one.share ?? 0) * 50))
/** What a person would say of it. */
function verdict(one: Schema<'PlanOut'>): { tone: 'good' | 'loss' | 'plain'; text: string } {
  if (!one.pays_from) return { tone: 'loss', text: 'never pays' }
  if ((one.share ?? 1) < 1) return { tone: 'plain', text: 'not yet' }
  return number(one.saves) > 0 ? { tone: 'good', text: 'pays' } : { tone: 'plain', text: 'just even' }
}
</script>

<template>
  <div class="overflow-auto p-4.5">
    <div class="mb-3 flex max-w-6xl items-start">
      <div>
        <h1>Is a plan worth it?</h1>
        <p class="text-soft">
          Memberships and volume discounts of your suppliers, each with the purchases at which it pays, against what you buy at the present
          pace of sales. Joining one is seen in every price before it counts.
        </p>
      </div>
      <span class="ml-auto" /><Btn kind="main" :disabled="!suppliers.length" @click="edit(null)">Add a plan</Btn>
    </div>
    <div class="sheet max-w-6xl overflow-hidden">
      <Sight :of="asked" />
      <table v-if="data?.length" class="w-full">
        <thead>
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th class="px-3">Plan</th>
            <th class="px-3 text-right">Gives</th>
            <th class="px-3 text-right">Costs a month</th>
            <th class="px-3 text-right">Pays from</th>
            <th class="w-64 px-3">You buy a month</th>
            <th class="px-3 text-right">Saves a month</th>
            <th class="px-3" />
            <th class="px-3" />
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in data" :key="one.supplier + one.plan.name" class="h-14 border-b border-rule-2 last:border-0">
            <td class="px-3">
              <button type="button" class="text-left hover:underline" @click="edit(one)">
                <b>{{ one.plan.name }}</b></button
              ><span class="block text-xs text-soft">{{ one.supplier_name }}</span>
            </td>
            <td class="px-3 text-right">
              {{ percent(one.plan.discount / 10_000)
              }}<span class="block text-xs text-soft">{{ one.own ? `instead of ${percent(one.own / 10_000)}` : 'off goods' }}</span>
            </td>
            <td class="px-3 text-right">
              {{ one.plan.fee ? money({ amount: major(one.plan.fee, one.pace.currency), currency: one.pace.currency }) : 'nothing' }}
            </td>
            <td class="px-3 text-right">{{ one.pays_from ? money(one.pays_from) : '–' }}</td>
            <td class="px-3">
              <span class="relative block h-2.5 rounded bg-rule-2" aria-hidden="true"
                ><span class="absolute inset-y-0 left-0 rounded bg-asphalt" :style="{ width: `${bar(one)}%` }" /><span
                  class="absolute -inset-y-1 left-1/2 w-px bg-brick" /></span
              ><span class="mt-1 flex justify-between text-xs text-soft"
                ><span>{{ money(one.pace) }} by pace</span><span>{{ money(one.bought) }} in 30 days</span></span
              >
            </td>
            <td
              class="px-3 text-right font-bold"
              :class="number(one.saves) < 0 ? 'text-brick' : number(one.saves) > 0 ? 'text-pine' : 'text-soft'"
            >
              {{ money(one.saves, true) }}
            </td>
            <td class="px-3">
              <Tag :tone="verdict(one).tone">{{ verdict(one).text }}</Tag><span v-if="one.plan.taken" class="block text-xs text-soft">{{
                one.counts ? 'joined, it counts' : 'joined, not reached'
              }}</span>
            </td>
            <td class="px-3 text-right">
              <Btn small @click="flip(one)">{{ one.plan.taken ? 'See it without' : 'See it joined' }}</Btn>
            </td>
          </tr>
        </tbody>
      </table>
      <Empty
        v-else-if="data"
        title="No plan is known"
        message="Enter what a supplier offers: a monthly fee with a discount, or a discount from a volume on. It says from which sales on it pays."
      />
    </div>
    <p v-if="data?.length" class="mt-2 text-xs text-soft">
      The red line is where a plan begins to pay. Discounts are not added up: the highest that is given counts. Whether a volume is reached
      is looked at every hour, by what was bought in the last 30 days.
    </p>
    <Modal
      :open="open"
      :title="form.old || 'A plan of a supplier'"
      message="It is seen in every price before it counts."
      @close="open = false"
    >
      <form class="grid grid-cols-2 gap-3" @submit.prevent="keep">
        <label
          ><span class="label">Supplier</span
          ><select v-model="form.supplier" class="field" :disabled="!!form.old">
            <option v-for="one in suppliers" :key="one.id" :value="one.id">{{ one.name }}</option>
          </select></label
        ><label><span class="label">Name</span><input v-model="form.name" class="field" maxlength="60" /></label
        ><label
          ><span class="label">Discount on goods, %</span
          ><input v-model="form.discount" class="field" inputmode="decimal" maxlength="8" /></label
        ><label
          ><span class="label">Fee a month, {{ currency }}</span
          ><input v-model="form.fee" class="field" inputmode="decimal" maxlength="12" placeholder="0" /></label
        ><label
          ><span class="label">Only from goods a month of, {{ currency }}</span
          ><input v-model="form.from" class="field" inputmode="decimal" maxlength="12" placeholder="any" /></label
        ><label class="flex items-end gap-2 pb-2"
          ><input v-model="form.taken" type="checkbox" class="size-4 accent-pine" />We have joined it</label
        >
        <button type="submit" class="hidden" />
      </form>
      <template #acts
        ><Btn v-if="form.old" kind="loss" class="mr-auto" @click="drop">Remove it</Btn><Btn @click="open = false">Cancel</Btn
        ><Btn kind="main" @click="keep">See what it does</Btn></template
      >
    </Modal>
    <DraftModal v-if="draft" :title="draft.title" :draft="{ terms: draft.terms }" @close="draft = null" @done="draft = null" />
  </div>
</template>
