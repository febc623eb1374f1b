<script setup lang="ts">
/** Where the house is, and how dates and numbers are written there. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import Keeping from './Keeping.vue'
import { home } from '@/parts/home'

const asked = useQuery({ queryKey: ['place'], queryFn: () => take(api.GET('/api/v1/house/place')) })
const form = reactive({ country: '', zone: '', dates: 'dmy', decimal: '.', currency: '' })
const here = Intl.DateTimeFormat().resolvedOptions().timeZone
const zones = Intl.supportedValuesOf('timeZone')
const touched = ref(false)
watch(
  asked.data,
  (now) => {
    if (!now || touched.value) return
    home.value = now.home
    const { country, zone, dates, decimal, currency } = now
    Object.assign(form, { country, zone: country ? zone : here, dates, decimal, currency })
  },
  { immediate: true },
)
const DATES: Record<string, string> = { dmy: 'day, month, year: 24/11/2026', mdy: 'month, day, year: 11/24/2026', ymd: '2026-11-24' }
const valid = computed(() => /^[A-Za-z]{2}$/.test(form.country) && form.zone)
async function keep() {
  if (await act(() => take(api.PUT('/api/v1/house/place', { body: { ...form, currency: form.currency.toUpperCase() } })))) {
    touched.value = false
    void asked.refetch()
  }
}
</script>

<template>
  <div>
    <h1>Where you are</h1>
    <p class="mt-1 mb-3 max-w-xl text-soft">
      By it the dates, hours and numbers in sheets are read that do not say themselves how they are meant. Nothing that was read before is
      changed.
    </p>
    <Sight v-if="!asked.data.value" :of="asked" :lines="4" />
    <form v-else class="sheet grid max-w-xl grid-cols-2 gap-4 p-4" @submit.prevent="keep" @input="touched = true">
      <label
        ><span class="label">Country, two letters</span
        ><input v-model="form.country" class="field" maxlength="2" placeholder="such as US" required
      /></label>
      <label
        ><span class="label">Time zone</span><input v-model="form.zone" class="field" list="zones" maxlength="60" required /><datalist
          id="zones"
        >
          <option v-for="one in zones" :key="one" :value="one" /></datalist
      ></label>
      <label
        ><span class="label">Dates are written</span
        ><select v-model="form.dates" class="field">
          <option v-for="(message, key) in DATES" :key="key" :value="key">{{ message }}</option>
        </select></label
      >
      <label
        ><span class="label">Amounts are written</span
        ><select v-model="form.decimal" class="field">
          <option value=".">1,234.50</option>
          <option value=",">1.234,50</option>
        </select></label
      >
      <label class="col-span-2"
        ><span class="label">Sums over all stores are in</span
        ><input v-model="form.currency" class="field w-40" maxlength="3" :placeholder="asked.data.value.home" /><span
          class="mt-1 block text-xs text-soft"
          >A currency such as EUR, USD or JPY; {{ asked.data.value.home }} while it is empty. What is sold in another one is counted at the
          newest rate. Amounts in rules and limits stay as they were typed.</span
        ></label
      >
      <p class="col-span-2 flex justify-end"><Btn kind="main" :disabled="!valid" @click="keep">Save</Btn></p>
    </form>
    <Keeping />
  </div>
</template>
