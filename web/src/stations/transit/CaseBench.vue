<script setup lang="ts">
/** One case: the supplier's side, the buyer's side with each way and its expected cost, and its story. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { ROOT, api, take, upload, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import AlsoHere from '@/parts/AlsoHere.vue'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { dateOf, dayOf, inField, money, number, percent, plainOf, plural, timeOf } from '@/parts/format'
import { useForm } from '@/parts/form'
import CaseReturn from './CaseReturn.vue'
import { STATES, TERMS, WAYS, caseQuery } from './cases'

const props = defineProps<{ claim: number }>()
const asked = useQuery(caseQuery(props.claim))
const data = asked.data
const path = { params: { path: { number: props.claim } } }
const version = computed(() => data.value?.row.version ?? 0)
const more = ref('')
const amount = ref('')
const sent = ref({ number: '', carrier: '' })
const said = ref<'question' | 'accepted' | 'refused'>('accepted')
const { error, busy, sendAct } = useForm()
const askNow = () => act(() => take(api.POST('/api/v1/claims/{number}/ask', { ...path, body: { version: version.value } })))
const tell = () =>
  sendAct(
    () => take(api.POST('/api/v1/claims/{number}/more', { ...path, body: { version: version.value, words: more.value } })),
    () => (more.value = ''),
  )
const picture = (event: Event) => {
  const field = event.target as HTMLInputElement
  const file = field.files?.[0]
  if (file) void sendAct(() => upload<Schema<'Done'>>(`/api/v1/claims/${props.claim}/pictures`, file, {})).then(() => (field.value = ''))
}
/** What is paid back while they keep it; as it is proposed where nothing is typed. */
const part = ref('')
const buyer = (way: string) => {
  const own = way === 'part' ? plainOf(part.value) : ''
  const usual = data.value!.ways.find((one) => one.way === 'part')?.terms.part
  const body = { version: version.value, way: way as Schema<'Way'>, amount: own && usual ? { ...usual, amount: own } : null }
  return sendAct(() => take(api.POST('/api/v1/claims/{number}/buyer', { ...path, body })))
}
const asAmount = () => ({ amount: plainOf(amount.value), currency: data.value!.paid.currency })
const answer = () =>
  sendAct(
    () =>
      take(
        api.POST('/api/v1/claims/{number}/answer', {
          ...path,
          body: {
            version: version.value,
            state: said.value,
            message: more.value,
            amount: said.value === 'accepted' && amount.value.trim() ? asAmount() : null,
            tracking_number: sent.value.number,
            carrier: sent.value.carrier,
          },
        }),
      ),
    () => (more.value = ''),
  )
const came = () =>
  sendAct(
    () => take(api.POST('/api/v1/claims/{number}/came', { ...path, body: { version: version.value, amount: asAmount() } })),
    () => (amount.value = ''),
  )
const letGo = () => act(() => take(api.POST('/api/v1/claims/{number}/drop', { ...path, body: { version: version.value, reason: '' } })))
const open = computed(() => !!data.value && !['settled', 'dropped'].includes(data.value.row.state))
const can = computed(() => data.value?.row.state === 'open')
useKeys('This case', [{ key: 'a', message: 'ask the supplier', run: () => can.value && void askNow() }])
</script>

<template>
  <Sight :of="asked" :lines="6">
    <template v-if="data">
      <p class="code">{{ data.row.reference }}</p>
      <h1 class="mt-0.5">{{ data.row.title }}</h1>
      <p class="mt-1">
        {{ plural(data.row.units, 'unit') }} of order
        <RouterLink class="code text-slate hover:underline" :to="`/orders?row=${data.row.order_id}&words=${data.row.order}`">{{
          data.row.order
        }}</RouterLink>
        of {{ data.row.buyer_name }}: <b>{{ data.row.reason }}</b>.
      </p>
      <AlsoHere class="mt-2" :names="data.others" />
      <h2 class="mt-4">
        {{ data.row.supplier }} <Tag :tone="STATES[data.row.state]?.tone">{{ STATES[data.row.state]?.label }}</Tag>
      </h2>
      <p class="mt-1 text-soft">
        Asked for {{ data.row.wish === 'again' ? 'the same once more' : money(data.row.amount) }}; it cost {{ money(data.paid) }}.
        {{
          data.answers
            ? `By ${plural(data.answers, 'answer')}, ${percent(data.chance * 100, 0)} of such claims are paid, then ${percent(data.share * 100, 0)} of what was asked.`
            : `How it answers is not known yet: a chance of ${percent(data.chance * 100, 0)} and ${percent(data.share * 100, 0)} of what was asked are assumed.`
        }}
        <template v-if="data.row.until"
          >{{ data.row.state === 'accepted' ? 'It should be here by' : 'It has until' }} {{ dayOf(data.row.until) }}.</template
        >
      </p>
      <p v-if="data.answer" class="mt-1">“{{ data.answer }}”</p>
      <p v-if="data.wants_picture && can" class="mt-2 rounded bg-amber-wash px-2.5 py-1.5 text-amber-ink">
        Without a picture it is likely to ask for one first.
      </p>
      <p v-if="data.evidence.length" class="mt-2 flex flex-wrap gap-2">
        <a v-for="one in data.evidence" :key="one" :href="`${ROOT}/api/v1/shelf/pictures/${one}`" target="_blank" rel="noopener"
          ><img :src="`${ROOT}/api/v1/shelf/pictures/${one}`" alt="Evidence" class="h-16 rounded border border-rule"
        /></a>
      </p>
      <p v-if="can" class="mt-2.5">
        <Btn kind="main" hint="A" @click="askNow">Ask {{ data.row.supplier }}</Btn>
      </p>
      <p v-if="!data.by && data.letter && data.row.state !== 'open'" class="mt-2">
        <span class="label">It has no interface and no mail address: send this yourself</span>
        <textarea class="field h-28! py-1.5 text-xs" readonly :value="data.letter" aria-label="Text for the supplier" />
      </p>
      <template v-if="open">
        <label class="mt-2.5 block"
          ><span class="label">{{
            ['question', 'refused'].includes(data.row.state) ? 'Show more, and it is asked again' : 'More of what happened'
          }}</span
          ><textarea v-model="more" class="field h-14! py-1.5" maxlength="2000" />
        </label>
        <p class="mt-1.5 flex flex-wrap items-center gap-2">
          <Btn small :disabled="busy || !more.trim()" @click="tell">Add it</Btn>
          <label
            class="inline-flex h-7 cursor-pointer items-center rounded border border-rule bg-sheet px-2.5 text-xs font-semibold focus-within:outline-2 focus-within:outline-amber hover:bg-shade"
            ><span aria-hidden="true">Add a picture or PDF</span
            ><input
              type="file"
              class="sr-only"
              accept="image/png,image/jpeg,image/webp,application/pdf"
              aria-label="A picture that shows it"
              @change="picture"
          /></label>
        </p>
        <details v-if="data.row.state !== 'open'" class="mt-2">
          <summary class="cursor-pointer text-soft">
            {{ data.calls ? 'Money that came another way' : 'What they answered, or money that came' }}
          </summary>
          <div class="mt-1.5 flex flex-wrap items-end gap-2">
            <label
              ><span class="label">Amount, {{ data.paid.currency }}</span
              ><input v-model="amount" class="field w-28! text-right" inputmode="decimal"
            /></label>
            <Btn small :disabled="busy || !amount.trim()" @click="came">It is here</Btn>
            <template v-if="!data.calls">
              <label
                ><span class="label">They say</span
                ><select v-model="said" class="field">
                  <option value="accepted">{{ data.row.wish === 'again' ? 'it is sent again' : 'yes' }}</option>
                  <option value="question">show more</option>
                  <option value="refused">no</option>
                </select></label
              >
              <template v-if="data.row.wish === 'again' && said === 'accepted'">
                <label
                  ><span class="label">Its tracking number</span><input v-model="sent.number" class="field w-40!" maxlength="60"
                /></label>
                <label><span class="label">Carrier</span><input v-model="sent.carrier" class="field w-32!" maxlength="100" /></label>
              </template>
              <Btn small :disabled="busy" @click="answer">Note it</Btn>
            </template>
          </div>
        </details>
        <p v-if="error" role="alert" class="mt-2 rounded bg-brick-wash px-2.5 py-1.5 text-brick">{{ error }}</p>
      </template>
      <h2 class="mt-4">
        For the buyer <Tag v-if="data.row.buyer" tone="good">{{ WAYS[data.row.buyer]?.act }}: done</Tag>
        <span v-if="data.row.buyer_amount" class="text-sm font-normal text-soft">{{ money(data.row.buyer_amount) }} paid back</span>
      </h2>
      <ol class="mt-1">
        <li v-for="(one, n) in data.ways" :key="one.way" class="border-b border-rule-2 py-1.5">
          <p class="flex items-baseline gap-2">
            <span class="min-w-0 flex-1"
              ><b>{{ WAYS[one.way]?.label }}</b> <Tag v-if="n === 0" tone="good">cheapest</Tag></span
            ><b class="whitespace-nowrap" :class="number(one.cost) < 0 ? 'text-pine' : ''">{{ money(one.cost) }}</b>
            <Btn
              v-if="!['refund', 'again'].includes(data.row.buyer) && open"
              small
              :disabled="!one.may"
              :title="one.reason_not"
              @click="buyer(one.way)"
              >{{ WAYS[one.way]?.act }}</Btn
            >
          </p>
          <label v-if="one.way === 'part' && one.may && open" class="my-1 flex items-center gap-2 text-xs text-soft"
            >How much, {{ one.terms.part?.currency
            }}<input
              v-model="part"
              class="field h-7! w-24! text-right"
              inputmode="decimal"
              :placeholder="inField(one.terms.part?.amount)"
              aria-label="How much is paid back"
          /></label>
          <p class="text-xs text-soft">
            <template v-for="(value, name, at) in one.terms" :key="name"
              >{{ at ? ' + ' : '' }}{{ TERMS[name] ?? name }} <span class="whitespace-nowrap">{{ money(value) }}</span></template
            ><template v-if="one.reason_not">; {{ one.reason_not }}</template>
          </p>
        </li>
      </ol>
      <p class="mt-1 text-xs text-soft">
        What is expected from now on; what was spent already is in none of them. Refunds cannot be undone.
      </p>
      <CaseReturn :claim="claim" :version="data.row.version" :open="open" :units="data.row.units" />
      <h2 class="mt-4">Story</h2>
      <ol class="mt-1 border-l-2 border-rule pl-3">
        <li v-for="(one, n) in data.story" :key="n" class="py-1">
          {{ one.message }}<span class="block text-xs text-soft">{{ dateOf(one.at) }} {{ timeOf(one.at) }} · {{ one.who }}</span>
        </li>
      </ol>
      <p v-if="open" class="mt-3"><Btn small @click="letGo">Let it go</Btn></p>
    </template>
  </Sight>
</template>
