<script setup lang="ts">
/** Where the house is, how dates and numbers are written there, and what another place would change. */
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, reactive, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import { SIGNS, digits } from '@/parts/format'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import ZoneField from '@/parts/ZoneField.vue'
import Keeping from './Keeping.vue'
import { placeChangesQuery, placeQuery } from './queries'

const asked = useQuery(placeQuery())
const form = reactive({ country: '', zone: '', dates: 'dmy', decimal: '.', group: '', sign_after: false, currency: '' })
const here = Intl.DateTimeFormat().resolvedOptions().timeZone
const touched = ref(false)
watch(
  asked.data,
  (now) => {
    if (!now || touched.value) return
    const { country, zone, dates, decimal, group, sign_after, currency } = now
    Object.assign(form, { country, zone: country ? zone : here, dates, decimal, group, sign_after, currency })
  },
  { immediate: true },
)
const DATES: Record<string, string> = { dmy: 'day, month, year: 24/11/2026', mdy: 'month, day, year: 11/24/2026', ymd: '2026-11-24' }
/** How 1234.5 is written: the mark before decimals, and what stands between thousands. */
const NUMBERS = [
  ['.', ','],
  [',', '.'],
  [',', '\u00a0'],
  ['.', '\u00a0'],
  ['.', '’'],
] as const
const between = computed(() => form.group || (form.decimal === ',' ? '.' : ','))
const numbers = computed({
  get: () => form.decimal + between.value,
  set: (marks) => Object.assign(form, { decimal: marks[0], group: marks[1] }),
})
const money = computed(() => form.currency.toUpperCase() || asked.data.value?.home || '')
const sign = computed(() => SIGNS[money.value] ?? Object.values(SIGNS)[0])
// As it would stand in that money: yen have nothing behind the mark.
const amount = computed(() => (/^[A-Z]{3}$/.test(money.value) && !digits(money.value) ? `1${between.value}250` : `12${form.decimal}50`))
const valid = computed(() => /^[A-Za-z]{2}$/.test(form.country) && /^([A-Za-z]{3})?$/.test(form.currency) && !!form.zone)
const body = computed(() => ({ ...form, currency: form.currency.toUpperCase() }))
const settled = refDebounced(body, 300)
const changes = useQuery(
  computed(() => ({
    ...placeChangesQuery(settled.value),
    enabled: touched.value && valid.value,
    placeholderData: (old?: Schema<'PlaceChangeOut'>[]) => old,
  })),
)
/** What is usual in a country is taken for what nobody has chosen since that was asked. */
async function takeUsual() {
  const country = form.country.toUpperCase()
  if (!/^[A-Z]{2}$/.test(country) || country === asked.data.value?.country) return
  const before = { ...form }
  const { data } = await api.GET('/api/v1/house/usual', { params: { query: { country } } })
  if (!data || form.country !== before.country) return
  const same = (...names: (keyof typeof form)[]) => names.every((name) => form[name] === before[name])
  form.country = country
  if (same('dates')) form.dates = data.dates
  if (same('decimal', 'group')) Object.assign(form, { decimal: data.decimal, group: data.group })
  if (same('sign_after')) form.sign_after = data.sign_after
  if (same('currency')) form.currency = data.currency
}
async function keep() {
  if (await act(() => take(api.PUT('/api/v1/house/place', { body: body.value })))) {
    touched.value = false
    void asked.refetch()
  }
}
</script>

<template>
  <div>
    <h1>Where you are</h1>
    <p class="mt-1 mb-3 max-w-xl text-soft">
      A day begins at midnight here, all times are shown by these clocks, and dates and numbers are written this way. Sheets are read this
      way too unless they say otherwise. What was read before is not changed.
    </p>
    <Sight v-if="!asked.data.value" :of="asked" :lines="4" />
    <form v-else class="sheet grid max-w-xl grid-cols-2 gap-4 p-4" @submit.prevent="keep" @input="touched = true">
      <label
        ><span class="label">Country, two letters</span
        ><input v-model="form.country" class="field" maxlength="2" placeholder="such as US" required @change="takeUsual"
      /></label>
      <label><span class="label">Time zone</span><ZoneField v-model="form.zone" /></label>
      <label
        ><span class="label">Dates are written</span
        ><select v-model="form.dates" class="field">
          <option v-for="(message, key) in DATES" :key="key" :value="key">{{ message }}</option>
        </select></label
      >
      <label
        ><span class="label">Numbers are written</span
        ><select v-model="numbers" class="field">
          <option v-for="[decimal, group] in NUMBERS" :key="decimal + group" :value="decimal + group">
            1{{ group }}234{{ decimal }}50
          </option>
        </select></label
      >
      <label
        ><span class="label">Amounts are written</span
        ><select v-model="form.sign_after" class="field">
          <option :value="false">{{ sign }}{{ amount }}</option>
          <option :value="true">{{ amount }} {{ sign }}</option>
        </select></label
      >
      <label
        ><span class="label">Sums over all stores are in</span
        ><input v-model="form.currency" class="field" maxlength="3" :placeholder="asked.data.value.home" /><span
          class="mt-1 block text-xs text-soft"
          >A currency such as EUR, USD or JPY. What is sold in another one is counted at the newest rate.</span
        ></label
      >
      <table v-if="touched && changes.data.value?.length" class="col-span-2" aria-label="What this changes">
        <caption class="pb-1 text-left font-semibold">
          What this changes
        </caption>
        <tbody>
          <tr v-for="one in changes.data.value" :key="one.name" class="border-t border-rule align-top">
            <td class="py-1 pr-3">{{ one.name }}</td>
            <td class="py-1 pr-3 whitespace-nowrap text-soft">{{ one.now }}</td>
            <td class="py-1">{{ one.then }}</td>
          </tr>
        </tbody>
      </table>
      <p class="col-span-2 flex justify-end"><Btn kind="main" :disabled="!valid" @click="keep">Save</Btn></p>
    </form>
    <Keeping />
  </div>
</template>
