<script setup lang="ts">
/** What one depot takes and asks: told by its interface, or typed for one that works by sheets and mail. */
import { useQuery } from '@tanstack/vue-query'
import { ref, watch } from 'vue'
import { api, take } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import { count, inField, money, plainOf, plural } from '@/parts/format'
import { useForm } from '@/parts/form'
import { termsQuery } from './depot'

const props = defineProps<{ depot: number }>()
const asked = useQuery(termsQuery(props.depot))
const data = asked.data
const form = ref({ storage: '', receive: '', pick: '', weight: '20000', sides: '600 400 400', low: '1', high: '3' })
const address = ref<Record<string, string>>({})
const PARTS = ['name', 'address_1', 'address_2', 'city', 'region', 'postcode', 'country']
const LABELS = ['Name', 'Street', 'Second line', 'City', 'Region', 'Postcode', 'Country, two letters']
watch(
  data,
  (one) => {
    if (!one) return
    form.value = {
      storage: inField(one.storage.amount),
      receive: inField(one.receive.amount),
      pick: inField(one.pick.amount),
      weight: String(one.carton_weight),
      sides: one.carton_sides.join(' '),
      low: String(one.days_low),
      high: String(one.days_high),
    }
    address.value = { ...one.address }
  },
  { immediate: true },
)
const { error, busy, sendAct } = useForm()
const amount = (text: string) => ({ amount: plainOf(text) || '0', currency: data.value!.storage.currency })
const save = () =>
  sendAct(() =>
    take(
      api.PUT('/api/v1/depot/terms/{depot}', {
        params: { path: { depot: props.depot } },
        body: {
          version: data.value!.version,
          storage: amount(form.value.storage),
          receive: amount(form.value.receive),
          pick: amount(form.value.pick),
          weight_most: data.value!.weight_most,
          side_most: data.value!.side_most,
          carton_weight: Number(form.value.weight),
          carton_sides: form.value.sides
            .split(/[^\d]+/)
            .filter(Boolean)
            .map(Number),
          days_low: Number(form.value.low),
          days_high: Number(form.value.high),
          room: data.value!.room,
          address: Object.fromEntries(Object.entries(address.value).filter(([, value]) => value.trim())),
        },
      }),
    ),
  )
</script>

<template>
  <section v-if="data" class="mt-4 border-t border-rule pt-3">
    <h2>{{ data.name }}</h2>
    <p v-if="data.lines_counted" class="mt-1 text-soft">
      Of {{ plural(data.lines_counted, 'line') }} of loads that it counted, {{ data.lines_off || 'none' }}
      {{ data.lines_off > 1 ? 'were' : 'was' }} not what was sent.
    </p>
    <template v-if="data.told">
      <p class="mt-1 text-soft">
        As its interface says: storage {{ money(data.storage) }} a litre and month, {{ money(data.receive) }} a carton taken in,
        {{ money(data.pick) }} a unit picked. Goods up to {{ count(data.weight_most) }} g and {{ count(data.side_most) }} mm, in cartons of
        {{ data.carton_sides.join(' × ') }} mm and {{ data.carton_weight / 1000 }} kg; counted within {{ data.days_low }} to
        {{ data.days_high }} days.
      </p>
    </template>
    <template v-else>
      <div class="mt-2 grid grid-cols-4 gap-2">
        <label
          ><span class="label">A litre for 30 days</span><input v-model="form.storage" class="field text-right" inputmode="decimal"
        /></label>
        <label
          ><span class="label">A carton taken in</span><input v-model="form.receive" class="field text-right" inputmode="decimal"
        /></label>
        <label><span class="label">A unit picked</span><input v-model="form.pick" class="field text-right" inputmode="decimal" /></label>
        <label
          ><span class="label">Carton up to, g</span><input v-model="form.weight" class="field text-right" inputmode="numeric"
        /></label>
        <label class="col-span-2"><span class="label">Carton inside, mm</span><input v-model="form.sides" class="field" /></label>
        <label
          ><span class="label">Counted after, days</span><input v-model="form.low" class="field text-right" inputmode="numeric"
        /></label>
        <label><span class="label">at most, days</span><input v-model="form.high" class="field text-right" inputmode="numeric" /></label>
        <label v-for="(part, n) in PARTS" :key="part" :class="n < 2 ? 'col-span-2' : ''"
          ><span class="label">{{ LABELS[n] }}</span
          ><input v-model="address[part]" class="field"
        /></label>
      </div>
      <p v-if="error" role="alert" class="mt-2 text-brick">{{ error }}</p>
      <p class="mt-2 text-right">
        <Btn small :disabled="busy" @click="save">Save {{ data.name }}</Btn>
      </p>
    </template>
  </section>
</template>
