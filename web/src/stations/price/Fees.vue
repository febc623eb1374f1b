<script setup lang="ts">
/** What each store takes: typed once, used in every price and profit. */
import { useQuery } from '@tanstack/vue-query'
import { ref, watch } from 'vue'
import { type Schema } from '@/api/client'
import { tell } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import DraftModal from '@/parts/DraftModal.vue'
import Sight from '@/parts/Sight.vue'
import { useAsk } from '@/parts/ask'
import Rates from './Rates.vue'
import { fromText } from './rules'
import { inField, minor, minorInField } from '@/parts/format'
import { feesQuery } from './queries'

interface FeeText {
  category: string
  percent: string
  least: string
  cap: string
  fixed: string
}
interface Form {
  id: number
  version: number
  name: string
  tax: string
  payment: string
  paymentFixed: string
  fees: FeeText[]
  currency: string
  touched: boolean
}
/** A link from Books proposes what a store really takes of a category. */
const { text, set } = useAsk(() => '')
const asked = useQuery(feesQuery())
const { data } = asked
const forms = ref<Form[]>([])
const pct = (ppm: number) => inField(+(ppm / 10_000).toFixed(4))
const amount = (value: number | null | undefined, currency: string) => (value == null ? '' : minorInField(value, currency))
watch(
  data,
  (stores) => {
    forms.value = (stores ?? []).map(
      (store) =>
        forms.value.find((form) => form.id === store.id && form.touched) ?? {
          id: store.id,
          version: store.version,
          name: store.name,
          tax: pct(store.tax_in_price),
          payment: pct(store.payment),
          currency: store.currency,
          paymentFixed: amount(store.payment_fixed, store.currency),
          touched: false,
          fees: store.fees.map((fee) => ({
            category: fee.category ?? '',
            percent: pct(fee.percent ?? 0),
            least: amount(fee.least, store.currency),
            cap: amount(fee.cap, store.currency),
            fixed: amount(fee.fixed, store.currency),
          })),
        },
    )
  },
  { immediate: true },
)
watch(
  forms,
  (now) => {
    const form = now.find((one) => String(one.id) === text('store'))
    if (!form || !text('takes')) return
    const fee = form.fees.find((one) => one.category === text('category'))
    if (fee) fee.percent = text('takes')
    else form.fees.push({ category: text('category'), percent: text('takes'), least: '', cap: '', fixed: '' })
    form.touched = true
    set({ store: undefined, category: undefined, takes: undefined })
    look(form)
  },
  { flush: 'post' },
)

const share = (text: string) => fromText('margin', 'step', text || '0')
const cash = (text: string, currency: string) => {
  const value = minor(text || '0', currency)
  return Number.isFinite(value) && value >= 0 ? value : undefined
}
const draft = ref<{ form: Form; fees: Schema<'FeesBody'> } | null>(null)
function look(form: Form) {
  const fees = form.fees.map((fee) => ({
    category: fee.category.trim(),
    percent: share(fee.percent),
    least: cash(fee.least, form.currency),
    cap: fee.cap ? cash(fee.cap, form.currency) : null,
    fixed: cash(fee.fixed, form.currency),
  }))
  const [tax, payment, fixed] = [share(form.tax), share(form.payment), cash(form.paymentFixed, form.currency)]
  if ([tax, payment, fixed, ...fees.flatMap((fee) => [fee.percent, fee.least, fee.cap, fee.fixed])].includes(undefined))
    return tell('One of the fields is not a number such as 11 or 0.40', true)
  draft.value = {
    form,
    fees: {
      store: form.id,
      version: form.version,
      tax_in_price: tax as number,
      payment: payment as number,
      payment_fixed: fixed as number,
      fees: fees as never,
    },
  }
}
function kept() {
  if (draft.value) draft.value.form.touched = false
  draft.value = null
}
</script>

<template>
  <div class="overflow-auto p-4.5">
    <h1>Store fees</h1>
    <p class="mb-4 text-soft">Typed once; used in every price and every profit. A change is seen before it is made, and can be undone.</p>
    <Sight :of="asked" :lines="4" />
    <section v-for="form in forms" :key="form.id" class="sheet mb-4 max-w-4xl p-4" @input="form.touched = true">
      <h2 class="text-base!">
        {{ form.name }} <span class="ml-1 text-xs font-normal text-soft">amounts in {{ form.currency }}</span>
      </h2>
      <div class="mt-3 grid grid-cols-3 gap-4">
        <label><span class="label">Tax inside the price, %</span><input v-model="form.tax" class="field" maxlength="9" /></label>
        <label><span class="label">Payment fee, %</span><input v-model="form.payment" class="field" maxlength="9" /></label>
        <label><span class="label">Payment fee, fixed</span><input v-model="form.paymentFixed" class="field" maxlength="9" /></label>
      </div>
      <table class="mt-4 w-full">
        <thead>
          <tr class="text-2xs text-soft">
            <th class="pb-1">Category (empty = all others)</th>
            <th class="pr-4 pb-1 text-right">Fee, %</th>
            <th class="pr-4 pb-1 text-right">At least</th>
            <th class="pr-4 pb-1 text-right">At most</th>
            <th class="pr-4 pb-1 text-right">Plus fixed</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <tr v-for="(fee, n) in form.fees" :key="n">
            <td class="pr-2 pb-1.5"><input v-model="fee.category" class="field" aria-label="Category" maxlength="100" /></td>
            <td v-for="name in ['percent', 'least', 'cap', 'fixed'] as const" :key="name" class="w-28 pr-2 pb-1.5">
              <input v-model="fee[name]" class="field text-right" :aria-label="name" maxlength="9" />
            </td>
            <td class="pb-1.5"><Btn small @click="(form.fees.splice(n, 1), (form.touched = true))">Remove</Btn></td>
          </tr>
        </tbody>
      </table>
      <div class="mt-2 flex gap-2">
        <Btn small @click="(form.fees.push({ category: '', percent: '', least: '', cap: '', fixed: '' }), (form.touched = true))"
          >Add a category</Btn
        ><span class="ml-auto" /><Btn kind="main" :disabled="!form.touched" @click="look(form)">See what it does</Btn>
      </div>
    </section>
    <Rates />
    <DraftModal v-if="draft" :title="`What ${draft.form.name} takes`" :draft="{ fees: draft.fees }" @close="draft = null" @done="kept" />
  </div>
</template>
