<script setup lang="ts">
/** How a SKU is held: its measures, packs, wished service, seasons; a hand's count, a write-off, and its end. */
import { ref } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { count, inField, numberOf } from '@/parts/format'
import { useForm } from '@/parts/form'
import Measures from './Measures.vue'
import type { HeldFull } from './depot'

const props = defineProps<{ of: HeldFull }>()
const emit = defineEmits<{ close: [] }>()
const sides = ref([...props.of.sides])
const weight = ref(props.of.weight_g)
const inner = ref(props.of.inner)
const carton = ref(props.of.own_carton)
const least = ref(props.of.least)
const service = ref(props.of.own_service ? String(props.of.service) : '')
const seasons = ref(props.of.seasons.map((one) => ({ ...one, times: inField(one.times / 1_000_000) })))
const there = ref('')
const gone = ref('')
const why = ref('')
const { error, wrong, busy, sendAct } = useForm()
const params = { path: { number: props.of.row.id } }
const version = props.of.row.version
const add = () => seasons.value.push({ name: '', first: '', last: '', times: '1.5' })
const save = () =>
  sendAct(
    () =>
      take(
        api.PATCH('/api/v1/depot/goods/{number}', {
          params,
          body: {
            version,
            sides: sides.value,
            weight_g: weight.value,
            inner: inner.value,
            carton: carton.value,
            least: least.value,
            service: service.value.trim() ? numberOf(service.value) : 0,
            seasons: seasons.value
              .filter((one) => one.first && one.last)
              .map((one) => ({ ...one, times: Math.round(numberOf(one.times) * 1_000_000) })),
          },
        }),
      ),
    () => emit('close'),
  )
const counted = () =>
  sendAct(
    () =>
      take(api.POST('/api/v1/depot/goods/{number}/count', { params, body: { version, units: Number(there.value), reason: why.value } })),
    () => emit('close'),
  )
const off = () =>
  sendAct(
    () =>
      take(api.POST('/api/v1/depot/goods/{number}/write-off', { params, body: { version, units: Number(gone.value), reason: why.value } })),
    () => emit('close'),
  )
const end = async () => {
  if (await act(() => take(api.POST('/api/v1/depot/goods/{number}/end', { params, body: { version } })))) emit('close')
}
</script>

<template>
  <Modal open wide :title="`How ${of.row.title} is held`" @close="emit('close')">
    <Measures v-model:sides="sides" v-model:weight="weight" v-model:inner="inner" v-model:carton="carton" :wrong="wrong" />
    <div class="mt-3 grid grid-cols-2 gap-3">
      <label class="block"
        ><span class="label">Shall be there on so many of 100 days</span
        ><input
          v-model="service"
          class="field"
          inputmode="decimal"
          :placeholder="`${of.service}, as the house wishes`"
          :aria-invalid="!!wrong.service"
      /></label>
      <label class="block"
        ><span class="label">Order at least, units</span><input v-model.number="least" type="number" min="0" class="field"
      /></label>
    </div>
    <fieldset class="mt-4">
      <legend class="font-bold">Seasons and promotions</legend>
      <div v-for="(one, n) in seasons" :key="n" class="mt-2 grid grid-cols-[1fr_140px_140px_90px_auto] items-end gap-2">
        <label><span class="label">Name</span><input v-model="one.name" class="field" maxlength="60" /></label>
        <label><span class="label">First day</span><input v-model="one.first" type="date" class="field" /></label>
        <label><span class="label">Last day</span><input v-model="one.last" type="date" class="field" /></label>
        <label><span class="label">Times as much</span><input v-model="one.times" class="field text-right" inputmode="decimal" /></label>
        <Btn small kind="link" @click="seasons.splice(n, 1)">Remove</Btn>
      </div>
      <Btn small class="mt-2" @click="add">Add a season</Btn>
    </fieldset>
    <details class="mt-4">
      <summary class="cursor-pointer font-bold">Put the stock right by hand</summary>
      <p class="mt-1 text-soft">Our ledger has {{ count(of.row.there) }} there. What is written stays; a count is a movement of its own.</p>
      <label class="mt-2 block"><span class="label">Why</span><input v-model="why" class="field" maxlength="300" /></label>
      <div class="mt-2 grid grid-cols-2 gap-3">
        <div class="flex items-end gap-2">
          <label class="flex-1"
            ><span class="label">Really there, units</span><input v-model="there" class="field text-right" inputmode="numeric" /></label
          ><Btn :disabled="!/^\d+$/.test(there.trim()) || busy" @click="counted">Take the count</Btn>
        </div>
        <div class="flex items-end gap-2">
          <label class="flex-1"
            ><span class="label">Not sellable, units</span><input v-model="gone" class="field text-right" inputmode="numeric" /></label
          ><Btn kind="loss" :disabled="!/^\d+$/.test(gone.trim()) || busy" @click="off">Write off</Btn>
        </div>
      </div>
    </details>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn v-if="of.row.state === 'agreed'" kind="link" @click="end">Send no more of it there</Btn><span class="flex-1" /><Btn
        @click="emit('close')"
        >Cancel</Btn
      ><Btn kind="main" :disabled="busy" @click="save">Save</Btn></template
    >
  </Modal>
</template>
