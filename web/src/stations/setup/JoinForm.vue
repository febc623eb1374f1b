<script setup lang="ts">
/** Join a partner: address and key are tried before anything is kept. A closed store is given a token for its program. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { ApiError, api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import EventChoice from './EventChoice.vue'
import { home } from '@/parts/home'
import { place, plainOf } from '@/parts/format'
import { descriptionsQuery, kindsQuery } from './queries'

const props = defineProps<{
  owner: 'store' | 'supplier' | 'carrier' | 'rates' | 'mailbox' | 'inbox' | 'files' | 'webhook'
  leaves?: boolean
}>()
const emit = defineEmits<{ done: [joined: Schema<'Joined'>, kind: string]; leave: [] }>()
const { data: kinds } = useQuery({ ...kindsQuery(), meta: { live: false } })
const mine = computed(() => (kinds.value ?? []).filter((kind) => kind.owner === props.owner))
const form = reactive({
  kind: '',
  name: '',
  address: '',
  key: '',
  country: place.country,
  currency: home.value,
  first: '',
  next: '',
  days: '3',
  shape: '',
  page: '',
  sender: '',
  events: ['orders_new'] as Schema<'EventGroup'>[],
  description: 0,
})
const described = computed(() => form.kind === 'described')
const { data: written } = useQuery({
  ...descriptionsQuery(),
  enabled: described,
})
const choices = computed(() => (written.value?.own ?? []).filter((one) => one.owner === props.owner))
const description = computed(() => choices.value.find((one) => one.id === form.description))
watch(choices, (now) => (form.description ||= now.find((one) => !one.faults)?.id ?? 0), { immediate: true })
watch(
  description,
  (now) => {
    if (now?.address && !form.address) form.address = now.address
  },
  { immediate: true },
)
/** A description that does not say how ways of sending are asked for: a person says what sending costs. */
const sendsByHand = computed(() => described.value && props.owner === 'supplier' && !!description.value && !description.value.terms)
const keyHint = computed(() => (described.value ? (description.value?.key.join(':') ?? 'key') : (kind.value?.key_hint ?? '')))
watch(mine, (now) => (form.kind ||= now[0]?.kind ?? ''), { immediate: true })
const kind = computed(() => mine.value.find((one) => one.kind === form.kind))
const called = computed(() => !!kind.value?.address_hint)
// A folder says nothing of whose it is, so country, money and sending are asked as for one without any link.
const byHand = computed(() => form.kind === 'by_hand')
const telling = computed(() => (!called.value && !byHand.value) || form.kind === 'folder')
const named = computed(() => telling.value || byHand.value || props.owner === 'webhook')
const error = ref('')
const wrong = ref<Record<string, string>>({})
const busy = ref(false)
async function join() {
  busy.value = true
  error.value = ''
  wrong.value = {}
  const cash = (text: string) => (text.trim() ? { amount: plainOf(text), currency: form.currency.toUpperCase() } : null)
  const sends = (telling.value || sendsByHand.value) && props.owner === 'supplier'
  try {
    const done = await take(
      api.POST('/api/v1/setup/partners', {
        body: {
          owner: props.owner,
          kind: form.kind,
          name: form.name,
          address: called.value ? form.address : '',
          key: called.value ? form.key : '',
          country: telling.value ? form.country.toUpperCase() : '',
          currency: telling.value ? form.currency.toUpperCase() : '',
          days: Number(form.days) || 3,
          ship_first: sends ? cash(form.first) : null,
          ship_next: sends ? cash(form.next) : null,
          shape: byHand.value ? form.shape : '',
          page: byHand.value ? form.page : '',
          sender: props.owner === 'mailbox' ? form.sender : '',
          events: props.owner === 'webhook' ? form.events : [],
          description: described.value ? form.description : 0,
        },
      }),
    )
    emit('done', done, form.kind)
    void act(() => Promise.resolve(done))
  } catch (problem) {
    error.value = wordsOf(problem)
    wrong.value = problem instanceof ApiError ? problem.fields : {}
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="grid grid-cols-2 gap-3.5" @submit.prevent="join">
    <label v-if="mine.length > 1" class="col-span-2"
      ><span class="label"
        >What kind of {{ { rates: 'source', inbox: 'mailbox', files: 'server', webhook: 'address' }[owner as string] ?? owner }}</span
      ><select v-model="form.kind" class="field">
        <option v-for="one in mine" :key="one.kind" :value="one.kind">{{ one.name }}</option>
      </select></label
    >
    <label v-if="described" class="col-span-2"
      ><span class="label">Its description</span
      ><select v-model.number="form.description" class="field" required>
        <option v-for="one in choices" :key="one.id" :value="one.id" :disabled="!!one.faults">
          {{ one.name }}{{ one.faults ? ' (not finished)' : '' }}
        </option></select
      ><span class="mt-1 block text-soft"
        >How its interface is spoken to is written under
        <RouterLink class="text-slate underline" to="/setup/descriptions">Described partners</RouterLink>.</span
      ></label
    >
    <p
      v-if="described && description?.certificate"
      class="col-span-2 rounded px-3 py-2"
      :class="description.certificate.current ? 'bg-pine-wash' : 'bg-amber-wash text-amber-ink'"
    >
      Certificate: {{ description.certificate.summary }}{{ description.certificate.current ? '' : ', of how it read before' }}.
    </p>
    <p v-else-if="described && description" class="col-span-2 rounded bg-amber-wash px-3 py-2 text-amber-ink">
      It was not tried yet; what holds of it is not known.
    </p>
    <label class="col-span-2"
      ><span class="label">Name{{ named ? '' : ' (empty = as it calls itself)' }}</span
      ><input v-model="form.name" class="field" maxlength="80" :aria-invalid="!!wrong.name" :required="named"
    /></label>
    <template v-if="called">
      <label class="col-span-2"
        ><span class="label">Address</span
        ><input
          v-model="form.address"
          class="field code"
          required
          maxlength="500"
          :placeholder="kind?.address_hint"
          :aria-invalid="!!wrong.address"
      /></label>
      <label v-if="keyHint" class="col-span-2"
        ><span class="label"
          >Its key{{ keyHint === 'key' || (described && !keyHint.includes(':')) ? '' : `, written as ${keyHint}` }}; stored sealed, never
          shown again{{ described ? '; empty = the one that it was tried with' : '' }}</span
        ><input
          v-model="form.key"
          class="field code"
          type="password"
          autocomplete="off"
          :required="owner !== 'mailbox' && form.kind !== 'pages' && !described"
          maxlength="8000"
          :aria-invalid="!!wrong.key"
      /></label>
    </template>
    <EventChoice v-if="owner === 'webhook'" v-model="form.events" class="col-span-2" />
    <label v-if="owner === 'mailbox'" class="col-span-2"
      ><span class="label">Our mails come from; one to this address tries the server</span
      ><input v-model="form.sender" class="field" type="email" required maxlength="200" placeholder="orders@our-shop.example"
    /></label>
    <template v-if="byHand">
      <label
        ><span class="label">Its numbers (empty = any)</span
        ><input v-model="form.shape" class="field code" maxlength="40" placeholder="PP99999999AA" :aria-invalid="!!wrong.shape"
      /></label>
      <label
        ><span class="label">Its tracking page</span
        ><input v-model="form.page" class="field code" maxlength="500" placeholder="https://…/{number}" :aria-invalid="!!wrong.page"
      /></label>
      <p class="col-span-2 text-soft">
        A stands for a letter, 9 for a digit, {number} for the parcel’s number. Its parcels move by sheets, mails and your word; one that
        nobody says anything of is taken as arrived after the days that your limits have it.
      </p>
    </template>
    <template v-if="telling || sendsByHand">
      <label v-if="telling"
        ><span class="label">Country, two letters</span><input v-model="form.country" class="field" maxlength="2" required
      /></label>
      <label
        ><span class="label">{{ telling ? 'Currency' : 'Currency of what sending costs' }}</span
        ><input v-model="form.currency" class="field" maxlength="3" required
      /></label>
      <template v-if="owner === 'supplier'">
        <label
          ><span class="label">Sending, first unit</span><input v-model="form.first" class="field" inputmode="decimal" maxlength="9"
        /></label>
        <label
          ><span class="label">Each next unit</span><input v-model="form.next" class="field" inputmode="decimal" maxlength="9"
        /></label>
        <label
          ><span class="label">Days to arrive</span><input v-model="form.days" class="field" inputmode="numeric" maxlength="2"
        /></label>
      </template>
    </template>
    <p v-if="form.kind === 'program'" class="col-span-2 text-soft">
      For a store that only a person can sign in to. You get a token, once; a small program on your machine uses it to fetch what waits,
      does it in the store and reports. The store’s own password never comes here.
    </p>
    <p v-if="kind?.by_sheets && owner === 'supplier'" class="col-span-2 text-soft">
      Its sheet may be in its own words: next you say which column is what, once.
    </p>
    <p v-if="error" role="alert" class="col-span-2 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <div class="col-span-2 mt-1.5 flex justify-end gap-2">
      <Btn v-if="leaves" @click="emit('leave')">Cancel</Btn
      ><Btn kind="main" :disabled="busy" @click="join">{{ busy ? 'Asking it…' : called ? 'Check and connect' : 'Connect' }}</Btn>
    </div>
    <button type="submit" class="hidden" />
  </form>
</template>
