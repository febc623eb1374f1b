<script setup lang="ts">
/** The way back of a case's goods: where to, under which number, with a label; followed until somebody has looked at them. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { ROOT, api, take, type Schema } from '@/api/client'
import { may } from '@/app/may'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import { dateOf, dayOf, money, plural, timeOf } from '@/parts/format'
import { useForm } from '@/parts/form'
import { REFUND_WHEN, RETURNS, returnOfQuery } from './cases'

const props = defineProps<{ claim: number; version: number; open: boolean; units: number }>()
const { data } = useQuery(returnOfQuery(props.claim))
const { error, wrong, busy, clear, sendAct } = useForm()
const making = ref(false)
const place = ref(0)
const address = ref('')
const when = ref('arrived')
const days = ref(14)
const label = ref<number | null>(null)
const number = ref('')
const by = ref<number | null>(null)
const sound = ref(0)
const remark = ref('')
const there = computed(() => data.value?.there)
const over = computed(() => !there.value || there.value.state === 'dropped')
const labels = computed(() => data.value?.carriers.filter((one) => one.labels) ?? [])
watch(
  () => data.value?.carriers,
  (all) => (by.value ??= all?.[0]?.id ?? null),
)
function choose(at: number) {
  place.value = at
  address.value = data.value?.places[at]?.address ?? ''
}
function begin() {
  clear()
  choose(0)
  label.value = labels.value[0]?.id ?? null
  making.value = true
}
const send = () =>
  sendAct(
    () =>
      take(
        api.POST('/api/v1/returns', {
          body: {
            case: props.claim,
            version: props.version,
            supplier: data.value!.places[place.value]?.supplier ?? null,
            address: address.value,
            refund_when: when.value as Schema<'OpenReturnAsk'>['refund_when'],
            days: days.value || 14,
            carrier: label.value,
          },
        }),
      ),
    () => (making.value = false),
  )
const path = () => ({ params: { path: { number: there.value!.id } } })
const v = () => there.value!.version
const sent = () =>
  sendAct(() =>
    take(api.POST('/api/v1/returns/{number}/sent', { ...path(), body: { version: v(), tracking: number.value, carrier: by.value } })),
  )
const here = () => act(() => take(api.POST('/api/v1/returns/{number}/here', { ...path(), body: { version: v() } })))
const look = () =>
  sendAct(() =>
    take(
      api.POST('/api/v1/returns/{number}/look', {
        ...path(),
        body: { version: v(), sound: there.value!.stocks ? sound.value || 0 : 0, note: remark.value },
      }),
    ),
  )
const drop = () => act(() => take(api.POST('/api/v1/returns/{number}/drop', { ...path(), body: { version: v(), reason: '' } })))
</script>

<template>
  <h2 class="mt-4">
    Coming back
    <Tag v-if="there" :tone="RETURNS[there.state]?.tone">{{ RETURNS[there.state]?.label }}</Tag>
  </h2>
  <p v-if="data?.asked" class="mt-1 rounded bg-amber-wash px-2.5 py-1.5 text-amber-ink">
    Asked for in {{ data.asked.store }} as <span class="code">{{ data.asked.number }}</span><template v-if="data.asked.answer_by"
      >; without an answer it decides by itself on {{ dateOf(data.asked.answer_by) }} {{ timeOf(data.asked.answer_by) }}</template
    >.
  </p>
  <template v-if="there">
    <p class="mt-1">
      <span class="code">{{ there.number }}</span> to {{ there.to }}: {{ there.address }}
    </p>
    <p class="text-soft">
      To be sent until {{ dayOf(there.send_by) }}; the buyer is paid back {{ REFUND_WHEN[there.refund_when] }}.
      <template v-if="there.label === 'asked'">A label is asked for.</template
      ><template v-else-if="there.label === 'refused'">No label: {{ there.label_message }}.</template>
    </p>
    <p v-if="there.label === 'made'" class="mt-1">
      <a class="text-slate hover:underline" :href="`${ROOT}/api/v1/returns/${there.id}/label.pdf`">The label</a> of {{ there.carrier
      }}<span class="text-soft">, {{ money(there.label_cost) }} once it is used</span>
    </p>
    <p v-if="there.tracking" class="mt-1">
      <span class="code">{{ there.tracking }}</span> <span class="text-soft">{{ there.last_word || 'nothing heard of it yet' }}</span>
    </p>
    <p v-if="there.state === 'looked_at'" class="mt-1 text-soft">
      {{ there.sound ? `${there.sound} of ${there.units} in stock again` : there.ours ? 'not to be sold again' : `back at ${there.to}`
      }}{{ there.note ? `: ${there.note}` : '' }}
    </p>
    <template v-if="may('claim')">
      <div v-if="there.state === 'agreed' && there.label !== 'asked'" class="mt-2 flex flex-wrap items-end gap-2">
        <template v-if="!there.tracking"
          ><label
            ><span class="label">Number, where the buyer told one</span><input v-model="number" class="field w-44!" maxlength="60" /></label
          ><label v-if="number.trim()"
            ><span class="label">Carrier</span
            ><select v-model="by" class="field">
              <option v-for="one in data!.carriers" :key="one.id" :value="one.id">{{ one.name }}</option>
            </select></label
          ></template
        ><Btn small :disabled="busy" @click="sent">They have sent it</Btn>
      </div>
      <p v-if="['agreed', 'on_the_way'].includes(there.state)" class="mt-2 flex gap-2">
        <Btn small @click="here">It has arrived</Btn><Btn small kind="link" @click="drop">It does not come</Btn>
      </p>
      <div v-if="there.state === 'arrived'" class="mt-2 flex flex-wrap items-end gap-2">
        <label v-if="there.stocks"
          ><span class="label">Into stock, of {{ there.units }}</span
          ><input v-model.number="sound" type="number" min="0" :max="there.units" class="field w-24! text-right"
        /></label>
        <label class="min-w-0 flex-1"><span class="label">How it came</span><input v-model="remark" class="field" maxlength="300" /></label
        ><Btn small :disabled="busy" @click="look">{{ there.ours && !(there.stocks && sound) ? 'Write it off' : 'Note it' }}</Btn>
      </div>
    </template>
    <p v-if="error && !making" role="alert" class="mt-2 rounded bg-brick-wash px-2.5 py-1.5 text-brick">{{ error }}</p>
  </template>
  <p v-if="over && open && may('claim')" class="mt-2"><Btn small :disabled="!data" @click="begin">Let it be sent back</Btn></p>
  <p v-else-if="!there" class="mt-1 text-soft">Nothing comes back.</p>
  <Modal
    v-if="making"
    open
    title="Let it be sent back"
    message="The buyer is told at once where to and under which number, and so is the store that asked. It can be ended, not unsaid."
    @close="making = false"
  >
    <label class="block"
      ><span class="label">{{ plural(units, 'unit') }}, to</span
      ><select class="field" :value="place" @change="choose(Number(($event.target as HTMLSelectElement).value))">
        <option v-for="(one, n) in data!.places" :key="n" :value="n">{{ one.name }}{{ one.is_depot ? ', a depot' : '' }}</option>
      </select></label
    >
    <label class="mt-3 block"
      ><span class="label">Address</span
      ><textarea
        v-model="address"
        class="field h-16! py-1.5"
        maxlength="400"
        :aria-invalid="!!wrong.address"
        placeholder="Name, street, town, postcode"
      />
    </label>
    <div class="mt-3 grid grid-cols-2 gap-3">
      <label class="block"
        ><span class="label">The buyer is paid back</span
        ><select v-model="when" class="field">
          <option v-for="(words, key) in REFUND_WHEN" :key="key" :value="key">{{ words }}</option>
        </select></label
      >
      <label class="block"
        ><span class="label">Days to send it</span
        ><input v-model.number="days" type="number" min="1" max="90" class="field text-right" :aria-invalid="!!wrong.days"
      /></label>
    </div>
    <label class="mt-3 block"
      ><span class="label">Label</span
      ><select v-model="label" class="field">
        <option v-for="one in labels" :key="one.id" :value="one.id">made by {{ one.name }}, we pay for it once it is used</option>
        <option :value="null">none: the buyer sends it by themselves</option>
      </select></label
    >
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn @click="making = false">Cancel</Btn
      ><Btn kind="main" :disabled="busy || !address.trim()" @click="send">Tell the buyer</Btn></template
    >
  </Modal>
</template>
