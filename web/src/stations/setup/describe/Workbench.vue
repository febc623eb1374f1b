<script setup lang="ts">
/** One description: step by step beside the partner's live answers. */
import { computed, ref } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import { useKeys } from '@/app/keys'
import CertificateStep from './CertificateStep.vue'
import FileStep from './FileStep.vue'
import OperationStep from './OperationStep.vue'
import PartnerStep from './PartnerStep.vue'
import UseStep from './UseStep.vue'
import { startDraft } from './draft'

const props = defineProps<{ number: number }>()
const emit = defineEmits<{ leave: [] }>()
const draft = startDraft(props.number)
const { whole, data, specs, faultsOf, state } = draft
const step = ref('partner')
const reads = computed(() => specs.value.filter((one) => !one.writes))
const writes = computed(() => specs.value.filter((one) => one.writes))
const chosen = computed(() => specs.value.find((one) => one.name === step.value))
const WORDS: Record<string, string> = {
  account: 'Account',
  listings: 'Listings',
  listing: 'One listing',
  change: 'Change a listing',
  publish: 'Make a listing',
  send_batch: 'Send a batch',
  batch: 'Result of a batch',
  orders: 'Orders',
  fulfil: 'Tell of sending',
  fulfilments: 'Parcels of an order',
  cancel: 'Cancel an order',
  refund: 'Pay back',
  settlements: 'Settlements',
  picture: 'Hand over a picture',
  returns: 'Returns',
  answer_return: 'Answer a return',
  tell_of_orders: 'Ask to be told',
  origins: 'Ways of sending',
  items: 'All items',
  offers: 'Price and stock',
  item: 'One item',
  buy: 'Buy',
  purchases: 'What became of it',
  recall: 'Let it go',
  evidence: 'Picture for a claim',
  claim: 'Claim',
  claims: 'What became of claims',
  track: 'Track parcels',
  label: 'Make a label',
  find_label: 'Find a label',
  table: 'Table of rates',
}
const mark = (name: string) => (!data.value.operations[name] ? '' : faultsOf(`operations.${name}`).length ? 'waits' : 'good')
const order = computed(() => ['partner', ...specs.value.map((one) => one.name), 'certificate', 'use', 'file'])
const walk = (by: number) => {
  const next = order.value[order.value.indexOf(step.value) + by]
  if (next) step.value = next
}
useKeys('A described partner', [
  { key: 'j', message: 'next step', run: () => walk(1) },
  { key: 'k', message: 'step before', run: () => walk(-1) },
])
const removing = ref(false)
async function remove() {
  removing.value = false
  const done = await act(() => take(api.DELETE('/api/v1/setup/descriptions/{number}', { params: { path: { number: props.number } } })))
  if (done) emit('leave')
}
const STATES = { kept: 'kept', typing: 'not kept yet', keeping: 'being kept…', failed: 'could not be kept' }
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col">
    <div class="mb-3 flex flex-wrap items-center gap-3">
      <Btn small aria-label="Back to all described partners" @click="emit('leave')">All</Btn>
      <h1 class="min-w-0 truncate">{{ whole?.name ?? '…' }}</h1>
      <span class="text-soft" role="status">{{ STATES[state] }}</span>
      <Btn v-if="state === 'failed'" small @click="draft.reload()">Show what is kept</Btn>
      <span class="ml-auto flex gap-2">
        <a
          class="inline-flex h-7 items-center text-xs font-semibold text-slate underline"
          :href="`api/v1/setup/descriptions/${number}/file`"
          download
          >Export</a
        >
        <Btn small @click="removing = true">Remove</Btn>
      </span>
    </div>
    <div class="sheet flex min-h-0 flex-1 overflow-hidden">
      <Sight :of="draft.asked" :lines="8">
        <nav class="w-[196px] shrink-0 overflow-auto border-r border-rule py-1.5" aria-label="Steps of the description">
          <button type="button" class="step" :aria-current="step === 'partner'" @click="step = 'partner'">Address and sign-in</button>
          <template
            v-for="[label, some] in [
              ['What we ask', reads],
              ['What we do there', writes],
            ] as const"
            :key="label"
          >
            <p class="label px-3 pt-2.5 pb-0.5">{{ label }}</p>
            <button
              v-for="one in some"
              :key="one.name"
              type="button"
              class="step flex items-center justify-between gap-2"
              :class="!mark(one.name) && 'text-soft'"
              :aria-current="step === one.name"
              :title="one.about"
              @click="step = one.name"
            >
              <span class="truncate">{{ WORDS[one.name] ?? one.name }}</span>
              <span v-if="mark(one.name) === 'good'" class="text-2xs font-semibold text-pine">said</span
              ><span v-else-if="mark(one.name)" class="text-2xs text-soft">open</span>
            </button>
          </template>
          <p class="label px-3 pt-2.5 pb-0.5">And then</p>
          <button
            v-for="[key, words] in [
              ['certificate', 'Certificate'],
              ['use', 'Use it'],
              ['file', 'The file'],
            ] as const"
            :key="key"
            type="button"
            class="step"
            :aria-current="step === key"
            @click="step = key"
          >
            {{ words }}
          </button>
        </nav>
        <div :key="step" class="min-w-0 flex-1 overflow-auto p-4">
          <PartnerStep v-if="step === 'partner'" />
          <CertificateStep v-else-if="step === 'certificate'" />
          <UseStep v-else-if="step === 'use'" @file="step = 'file'" />
          <FileStep v-else-if="step === 'file'" />
          <OperationStep v-else-if="chosen" :key="chosen.name" :shape="chosen" :label="WORDS[chosen.name] ?? chosen.name" />
        </div>
      </Sight>
    </div>
    <Modal
      v-if="removing"
      open
      title="Remove this description?"
      message="This cannot be undone. Export it first, if it may be wanted again."
      @close="removing = false"
    >
      <template #acts><Btn @click="removing = false">Cancel</Btn><Btn kind="loss" @click="remove">Remove it</Btn></template>
    </Modal>
  </div>
</template>

<style scoped>
@reference '../../../style.css';
.step {
  @apply relative block min-h-7 w-full px-3 py-1 text-left hover:bg-shade/60;
}
.step.flex {
  display: flex;
}
.step[aria-current='true'] {
  @apply bg-shade font-semibold;
  box-shadow: inset 3px 0 0 var(--color-asphalt);
}
</style>
