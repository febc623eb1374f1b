<script setup lang="ts">
/** Where the house is, how dates and numbers are written there, and what another place would change. */
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, reactive, ref, watch } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import ZoneField from '@/parts/ZoneField.vue'
import Keeping from './Keeping.vue'

const asked = useQuery({ queryKey: ['place'], queryFn: () => take(api.GET('/api/v1/house/place')) })
const form = reactive({ country: '', zone: '', dates: 'dmy', decimal: '.', currency: '' })
const here = Intl.DateTimeFormat().resolvedOptions().timeZone
const touched = ref(false)
watch(
  asked.data,
  (now) => {
    if (!now || touched.value) return
    const { country, zone, dates, decimal, currency } = now
    Object.assign(form, { country, zone: country ? zone : here, dates, decimal, currency })
  },
  { immediate: true },
)
const DATES: Record<string, string> = { dmy: 'day, month, year: 24/11/2026', mdy: 'month, day, year: 11/24/2026', ymd: '2026-11-24' }
const valid = computed(() => /^[A-Za-z]{2}$/.test(form.country) && /^([A-Za-z]{3})?$/.test(form.currency) && !!form.zone)
const body = computed(() => ({ ...form, currency: form.currency.toUpperCase() }))
const settled = refDebounced(body, 300)
const changes = useQuery({
  queryKey: ['place', 'changes', settled],
  queryFn: () => take(api.POST('/api/v1/house/place/changes', { body: settled.value })),
  enabled: computed(() => touched.value && valid.value),
  placeholderData: (old) => old,
})
async function takeUsual() {
  const country = form.country.toUpperCase()
  if (!/^[A-Z]{2}$/.test(country) || country === asked.data.value?.country) return
  const { data } = await api.GET('/api/v1/house/usual', { params: { query: { country } } })
  if (data) Object.assign(form, { country, dates: data.dates, decimal: data.decimal, currency: data.currency })
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
      A day begins at midnight here, all times are shown by these clocks, and dates and amounts in sheets are read this way unless a sheet
      says otherwise. What was read before is not changed.
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
        ><span class="label">Amounts in sheets are written</span
        ><select v-model="form.decimal" class="field">
          <option value=".">1,234.50</option>
          <option value=",">1.234,50</option>
        </select></label
      >
      <label class="col-span-2"
        ><span class="label">Sums over all stores are in</span
        ><input v-model="form.currency" class="field w-40" maxlength="3" :placeholder="asked.data.value.home" /><span
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
