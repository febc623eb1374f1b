<script setup lang="ts">
/** Samples on their way and judged; where they are sent. */
import { useQuery } from '@tanstack/vue-query'
import { reactive, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import Sight from '@/parts/Sight.vue'
import { money, percent, place } from '@/parts/format'
import { filePicture } from '@/stations/print/print'
import { ownAddressQuery, samplesQuery } from './queries'

const asked = useQuery(samplesQuery())
const { data } = asked
const { data: address } = useQuery(ownAddressQuery())
const form = reactive({ name: '', address_1: '', address_2: '', city: '', region: '', postcode: '', country: place.country, phone: '' })
watch(address, (now) => now && Object.assign(form, now), { immediate: true })
const mending = ref(false)
const wrong = ref('')
const judging = ref<Schema<'SampleOut'> | null>(null)
const note = ref('')
async function keep() {
  wrong.value = ''
  try {
    const done = await take(api.PUT('/api/v1/source/own-address', { body: { ...form, country: form.country.toUpperCase() } }))
    mending.value = false
    void act(() => Promise.resolve(done))
  } catch (problem) {
    wrong.value = wordsOf(problem)
  }
}
const judge = async (verdict: 'good' | 'fair' | 'poor') => {
  const one = judging.value!
  const body = { version: one.version, verdict, note: note.value }
  if (await act(() => take(api.POST('/api/v1/source/samples/{number}/verdict', { params: { path: { number: one.id } }, body }))))
    judging.value = null
}
const looking = ref<Schema<'SampleOut'> | null>(null)
const proofOf = (one: Schema<'SampleOut'>): string => {
  const proof = one.proofs.find((each) => each.proof)
  if (!proof) return 'The house has shown no picture of it yet.'
  return proof.differs ? `${percent(proof.differs / 10)} of the house's picture looks otherwise than ours.` : 'Both pictures look the same.'
}
const FIELDS = [
  ['name', 'Name', 'col-span-2'],
  ['address_1', 'Street and number', 'col-span-2'],
  ['address_2', 'More', 'col-span-2'],
  ['city', 'Town', ''],
  ['postcode', 'Postcode', ''],
  ['country', 'Country', ''],
  ['phone', 'Phone', ''],
] as const
const STATES: Record<string, string> = {
  asked: 'on order',
  ordered: 'with the supplier',
  sent: 'on its way',
  refused: 'refused',
  judged: 'judged',
}
const TONE: Record<string, 'good' | 'loss' | 'plain'> = { good: 'good', fair: 'plain', poor: 'loss' }
</script>

<template>
  <div class="min-h-0 max-w-5xl flex-1 overflow-auto">
    <p class="mb-3 flex items-center gap-3">
      <span v-if="address"
        >Samples go to <b>{{ address.name }}</b>, {{ address.address_1 }}, {{ address.city }} {{ address.postcode }},
        {{ address.country }}</span
      ><span v-else-if="address !== undefined" class="text-soft">Nobody has said yet where samples go.</span
      ><Btn small :kind="address ? undefined : 'main'" @click="mending = true">{{ address ? 'Change' : 'Say where' }}</Btn>
    </p>
    <Sight :of="asked" />
    <Empty
      v-if="data && !data.length"
      title="No sample was ordered yet"
      message="Choose an item in Find and press Order a sample: one is sent to you, and it stays out of all figures of sales."
    />
    <div v-else-if="data" class="sheet">
      <div
        v-for="one in data ?? []"
        :key="one.id"
        class="grid grid-cols-[minmax(0,1fr)_120px_90px_80px_minmax(0,1fr)_88px_auto] items-center gap-3 border-b border-rule-2 px-4 py-2.5 last:border-0"
      >
        <span class="min-w-0"
          ><b class="block truncate">{{ one.title }}</b
          ><span class="code text-soft">{{ one.number }}</span> <span class="text-soft">{{ one.supplier }}</span></span
        >
        <Tag :tone="one.verdict ? TONE[one.verdict] : one.state === 'refused' ? 'loss' : 'info'" class="justify-self-start">{{
          one.verdict || STATES[one.state]
        }}</Tag>
        <span class="text-soft"><When v-if="one.ordered_at" :at="one.ordered_at" /></span>
        <span class="text-right" title="With its sending">{{ one.cost ? money(one.cost) : '–' }}</span>
        <span class="truncate text-soft" :title="one.note">{{ one.note }}</span>
        <button
          v-if="one.proofs.length"
          type="button"
          class="flex gap-1"
          :aria-label="`Pictures of ${one.title}: ours${one.proofs[0]!.proof ? ' and the house\'s' : ''}`"
          @click="looking = one"
        >
          <img :src="filePicture(one.proofs[0]!.ours)" alt="" class="size-10 border border-rule" />
          <img v-if="one.proofs[0]!.proof" :src="filePicture(one.proofs[0]!.proof)" alt="" class="size-10 border border-rule" />
        </button>
        <span v-else />
        <Btn v-if="one.state !== 'refused'" small @click="((judging = one), (note = one.verdict ? one.note : ''))">{{
          one.verdict ? 'Judge anew' : 'It is here'
        }}</Btn>
      </div>
    </div>
    <Modal :open="mending" title="Where samples go" @close="mending = false">
      <div class="grid grid-cols-2 gap-3">
        <label v-for="[name, label, span] in FIELDS" :key="name" :class="span"
          ><span class="label">{{ label }}</span
          ><input v-model="form[name]" class="field" :maxlength="name === 'country' ? 2 : 200"
        /></label>
      </div>
      <p v-if="wrong" role="alert" class="mt-3 text-brick">{{ wrong }}</p>
      <template #acts><Btn @click="mending = false">Cancel</Btn><Btn kind="main" @click="keep">Save</Btn></template>
    </Modal>
    <Modal v-if="looking" open wide :title="looking.title" :message="proofOf(looking)" @close="looking = null">
      <div v-for="one in looking.proofs" :key="one.side" class="grid grid-cols-2 gap-3">
        <figure>
          <img :src="filePicture(one.ours)" :alt="`As it shall look, ${one.side}`" class="w-full border border-rule" />
          <figcaption class="mt-1 text-soft">As it shall look, {{ one.side }}</figcaption>
        </figure>
        <figure v-if="one.proof">
          <img :src="filePicture(one.proof)" :alt="`The house's picture, ${one.side}`" class="w-full border border-rule" />
          <figcaption class="mt-1 text-soft">The house's picture of what it printed</figcaption>
        </figure>
      </div>
      <template #acts><Btn kind="main" @click="looking = null">Close</Btn></template>
    </Modal>
    <Modal
      :open="!!judging"
      :title="`What is ${judging?.number} like?`"
      message="The lanes to this item remember it."
      @close="judging = null"
    >
      <label class="block"
        ><span class="label">In a few words</span><textarea v-model="note" class="field h-20! py-1.5" maxlength="500" />
      </label>
      <template #acts
        ><Btn @click="judging = null">Cancel</Btn><Btn kind="loss" @click="judge('poor')">Poor</Btn><Btn @click="judge('fair')">Fair</Btn
        ><Btn kind="main" @click="judge('good')">Good</Btn></template
      >
    </Modal>
  </div>
</template>
