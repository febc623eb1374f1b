<script setup lang="ts">
/** How a supplier sends: told by itself, or, where it tells nothing, said by a person. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { amountsAs, dayOf, inField, minorInField, money, place, plainOf } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { sendingQuery } from './queries'
import { vShown } from '../../parts/shown'

type Origin = Schema<'OriginShape'>
const props = defineProps<{ supplier: Schema<'PartnerOut'> }>()
const emit = defineEmits<{ close: [] }>()
const path = { number: props.supplier.id }
const asked = useQuery(computed(() => sendingQuery(props.supplier.id)))
const { data } = asked
const draft = ref<Origin[] | null>(null)
const error = ref('')
const cash = (amount = minorInField(0, data.value!.currency)) => ({ amount, currency: data.value!.currency })
const service = () => ({
  code: 'standard',
  name: 'Standard',
  country: place.country,
  first: cash(),
  following: cash(),
  free_over: null,
  days_low: 3,
  days_high: 5,
  tracked: true,
  bands: [],
})
const edit = () => (draft.value = amountsAs(data.value!.origins, inField))
const origin = (): Origin => ({
  code: 'main',
  name: props.supplier.name,
  country: props.supplier.country,
  cut_off: '16:00',
  handling: cash(),
  return_address: '',
  holidays: [],
  services: [service()],
})
async function keep() {
  error.value = ''
  try {
    const done = await take(
      api.PUT('/api/v1/setup/suppliers/{number}/sending', {
        params: { path },
        body: { version: data.value!.version, origins: amountsAs(draft.value!, plainOf) },
      }),
    )
    draft.value = null
    void act(() => Promise.resolve(done))
  } catch (problem) {
    error.value = wordsOf(problem)
  }
}
const setFree = (one: Origin['services'][number], text: string) => (one.free_over = text.trim() ? cash(text.trim()) : null)
const setHolidays = (one: Origin, text: string) => (one.holidays = text.split(/[\s,]+/).filter(Boolean))
</script>

<template>
  <Modal open :title="`How ${supplier.name} sends`" wide @close="emit('close')">
    <template v-if="!draft">
      <Sight :of="asked" :lines="3" />
      <div v-for="from in data?.origins ?? []" :key="from.code" class="mb-4">
        <p class="flex flex-wrap gap-x-4 text-soft">
          <b class="text-ink">{{ from.name }}, {{ from.country }}</b
          ><span>order by {{ from.cut_off }}</span
          ><span>pack {{ money(from.handling) }}</span
          ><span v-if="from.holidays?.length">closed {{ from.holidays.map(dayOf).join(', ') }}</span>
        </p>
        <p v-if="from.return_address" class="text-xs text-soft">returns to {{ from.return_address }}</p>
        <table class="mt-1 w-full">
          <thead>
            <tr class="h-7 text-2xs text-soft">
              <th>To</th>
              <th>Service</th>
              <th class="text-right">First</th>
              <th class="text-right">Each next</th>
              <th class="text-right">Free over</th>
              <th class="text-right">Days</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in from.services" :key="one.code + one.country" class="h-8 border-t border-rule-2 align-top *:py-1.5">
              <td>{{ one.country }}</td>
              <td>
                {{ one.name }} <span class="code text-soft">{{ one.code }}</span>
              </td>
              <td v-if="one.bands?.length" class="text-right" colspan="2">
                <span v-for="step in one.bands" :key="step.up_to_g" class="block leading-5"
                  >up to {{ step.up_to_g / 1000 }} kg {{ money(step.first) }}, next {{ money(step.following) }}</span
                >
              </td>
              <template v-else
                ><td class="text-right">{{ money(one.first) }}</td>
                <td class="text-right">{{ money(one.following) }}</td></template
              >
              <td class="text-right">{{ money(one.free_over) }}</td>
              <td class="text-right">{{ one.days_low }} to {{ one.days_high }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-if="data && !data.editable" class="text-soft">
        It tells this itself; what changes there is followed when its catalogue is read.
      </p>
    </template>
    <template v-else>
      <fieldset v-for="(from, at) in draft" :key="at" class="mb-4 rounded border border-rule p-3">
        <div class="grid grid-cols-[1fr_90px_60px_80px_100px] gap-2">
          <label><span class="label">Sends from</span><input v-model="from.name" class="field" maxlength="60" /></label>
          <label><span class="label">Short</span><input v-model="from.code" class="field code" maxlength="60" /></label>
          <label><span class="label">Country</span><input v-model="from.country" class="field" maxlength="2" /></label>
          <label><span class="label">Order by</span><input v-model="from.cut_off" class="field" maxlength="5" /></label>
          <label
            ><span class="label">Pack, {{ data!.currency }}</span
            ><input v-model="from.handling.amount" class="field text-right" inputmode="decimal" maxlength="12"
          /></label>
          <label class="col-span-3"
            ><span class="label">Returns go to</span><input v-model="from.return_address" class="field" maxlength="400"
          /></label>
          <label class="col-span-2"
            ><span class="label">Closed on (2026-12-25, …)</span
            ><input
              v-shown="(from.holidays ?? []).join(', ')"
              class="field"
              maxlength="600"
              @change="setHolidays(from, ($event.target as HTMLInputElement).value)"
          /></label>
        </div>
        <div class="mt-3 grid grid-cols-[56px_1fr_90px_80px_80px_80px_50px_50px_64px] gap-x-2 gap-y-1 text-xs">
          <span
            v-for="label in ['To', 'Service', 'Short', 'First', 'Each next', 'Free over', 'Days', 'to', '']"
            :key="label"
            class="label"
            >{{ label }}</span
          >
          <template v-for="(one, n) in from.services" :key="n">
            <input v-model="one.country" aria-label="To country" class="field" maxlength="2" />
            <input v-model="one.name" aria-label="Service" class="field" maxlength="60" />
            <input v-model="one.code" aria-label="Short name" class="field code" maxlength="60" />
            <input v-model="one.first.amount" aria-label="First unit" class="field text-right" inputmode="decimal" maxlength="12" />
            <input v-model="one.following.amount" aria-label="Each next" class="field text-right" inputmode="decimal" maxlength="12" />
            <input
              v-shown="one.free_over?.amount ?? ''"
              aria-label="Free over"
              class="field text-right"
              inputmode="decimal"
              maxlength="12"
              @change="setFree(one, ($event.target as HTMLInputElement).value)"
            />
            <input v-model.number="one.days_low" aria-label="Days, least" class="field text-right" inputmode="numeric" maxlength="3" />
            <input v-model.number="one.days_high" aria-label="Days, most" class="field text-right" inputmode="numeric" maxlength="3" />
            <Btn small @click="from.services.splice(n, 1)">Remove</Btn>
          </template>
        </div>
        <div class="mt-2 flex gap-2">
          <Btn small @click="from.services.push(service())">Another service</Btn
          ><Btn v-if="draft.length > 1" small @click="draft.splice(at, 1)">Remove this origin</Btn>
        </div>
      </fieldset>
      <Btn small @click="draft.push(origin())">Another origin</Btn>
      <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    </template>
    <template #acts
      ><template v-if="draft"><Btn @click="draft = null">Cancel</Btn><Btn kind="main" @click="keep">Save; prices follow</Btn></template
      ><template v-else
        ><Btn v-if="data?.editable" @click="edit">Change</Btn><Btn kind="main" @click="emit('close')">Close</Btn></template
      ></template
    >
  </Modal>
</template>
