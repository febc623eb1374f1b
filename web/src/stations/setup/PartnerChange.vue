<script setup lang="ts">
/** Rename, pause, disconnect or delete a partner; what disconnecting does is told before it is done. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import { inField, plainOf, plural } from '@/parts/format'
import { effectQuery } from './queries'

const props = defineProps<{ partner: Schema<'PartnerOut'> }>()
const emit = defineEmits<{ close: []; link: [partner: Schema<'PartnerOut'>] }>()
const path = { params: { path: { owner: props.partner.owner, number: props.partner.id } } }
const version = props.partner.version
const name = ref(props.partner.name)
const ending = ref(false)
const asked = useQuery(computed(() => ({ ...effectQuery(props.partner.owner, props.partner.id), staleTime: 0 })))
const lines = computed(() => {
  const one = asked.data.value
  if (!one) return []
  return [
    one.listings && `${plural(one.listings, 'listing')} ${one.listings === 1 ? 'follows' : 'follow'} it no more`,
    one.lanes &&
      `${plural(one.lanes, 'lane')} ${one.lanes === 1 ? 'shuts' : 'shut'}${one.spared ? `; ${plural(one.spared, 'SKU')} of them ${one.spared === 1 ? 'has' : 'have'} another lane` : ''}`,
    one.orders &&
      `${plural(one.orders, 'order')} that ${one.orders === 1 ? 'waits' : 'wait'} for it ${one.orders === 1 ? 'is' : 'are'} planned anew, or held`,
    one.unsent && `${plural(one.unsent, 'change')} it has not got yet ${one.unsent === 1 ? 'is' : 'are'} not sent`,
    one.parcels && `${plural(one.parcels, 'parcel')} ${one.parcels === 1 ? 'is' : 'are'} followed no more`,
  ].filter(Boolean)
})
async function go(run: () => Promise<{ message: string }>) {
  if (await act(run)) emit('close')
}
const rename = () =>
  go(() => take(api.POST('/api/v1/setup/partners/{owner}/{number}/name', { ...path, body: { version, name: name.value } })))
const pause = (paused: boolean) =>
  go(() => take(api.POST('/api/v1/setup/partners/{owner}/{number}/pause', { ...path, body: { version, paused } })))
const disconnect = () => go(() => take(api.POST('/api/v1/setup/partners/{owner}/{number}/disconnect', { ...path, body: { version } })))
const remove = () => go(() => take(api.POST('/api/v1/setup/partners/{owner}/{number}/delete', { ...path, body: { version } })))
const called = computed(() => !['sheet', 'program', 'folder', 'depot_sheet'].includes(props.partner.kind))
const again = () =>
  called.value
    ? emit('link', props.partner)
    : void go(() => take(api.POST('/api/v1/setup/partners/{owner}/{number}/link', { ...path, body: { address: '', key: '' } })))
/** What a store lets us show, by a person's word; empty = no limit. */
const most = reactive({
  units: String(props.partner.allowance_units ?? ''),
  listings: String(props.partner.allowance_listings ?? ''),
  value: inField(props.partner.allowance_value?.amount),
})
const message = computed(() => !props.partner.allowance_by_hand && !!(props.partner.allowance_units || props.partner.allowance_listings))
const whole = (text: string) => (String(text).trim() ? Number(String(text).replace(/[ ,]/g, '')) : null)
const limit = () =>
  go(() =>
    take(
      api.POST('/api/v1/setup/stores/{number}/limits', {
        params: { path: { number: props.partner.id } },
        body: {
          version,
          units: whole(most.units),
          listings: whole(most.listings),
          value: most.value.trim() ? { amount: plainOf(most.value), currency: props.partner.currency } : null,
        },
      }),
    ),
  )
</script>

<template>
  <Modal open :title="partner.name" @close="emit('close')">
    <form class="flex items-end gap-2" @submit.prevent="rename">
      <label class="flex-1"><span class="label">Name</span><input v-model="name" class="field" maxlength="200" /></label
      ><Btn :disabled="!name.trim() || name === partner.name" @click="rename">Rename</Btn>
    </form>
    <form v-if="partner.owner === 'store' && !partner.ended_at" class="mt-5" @submit.prevent="limit">
      <h2>What it lets us show</h2>
      <p class="mt-0.5 text-xs text-soft">
        {{
          message
            ? 'The store tells this itself; it is not yours to set.'
            : 'Empty is no limit. What is asked beyond it is told before the store refuses it.'
        }}
      </p>
      <div v-if="!message" class="mt-2 flex items-end gap-2">
        <label><span class="label">Units</span><input v-model="most.units" class="field" inputmode="numeric" maxlength="11" /></label>
        <label><span class="label">Listings</span><input v-model="most.listings" class="field" inputmode="numeric" maxlength="11" /></label>
        <label
          ><span class="label">Value, {{ partner.currency }}</span
          ><input v-model="most.value" class="field" inputmode="decimal" maxlength="14"
        /></label>
        <Btn @click="limit">Set</Btn>
      </div>
    </form>
    <div class="mt-5">
      <h2>{{ partner.ended_at ? 'Connect again' : 'Pause' }}</h2>
      <p class="mt-0.5 text-xs text-soft">
        {{
          partner.ended_at
            ? 'It is asked for its account again; what was known of it is still here.'
            : 'Nothing is read from it and nothing written to it; everything is kept, and goes on when you say so.'
        }}
      </p>
      <div class="mt-2">
        <Btn v-if="partner.ended_at" kind="main" @click="again">Connect again</Btn
        ><Btn v-else-if="partner.paused_at" kind="main" @click="pause(false)">Go on</Btn><Btn v-else @click="pause(true)">Pause</Btn>
      </div>
    </div>
    <div v-if="!partner.ended_at" class="mt-5">
      <h2>Disconnect</h2>
      <Sight :of="asked" :lines="2">
        <ul v-if="lines.length" class="mt-1 list-disc pl-5">
          <li v-for="line in lines" :key="String(line)">{{ line }}</li>
        </ul>
        <p v-else class="mt-0.5 text-xs text-soft">Nothing depends on it now.</p>
        <p class="mt-1 text-xs text-soft">It can be undone until something outside has changed by it.</p>
        <div class="mt-2 flex gap-2">
          <Btn v-if="!ending" kind="loss" @click="ending = true">Disconnect</Btn>
          <template v-else>
            <Btn kind="loss" @click="disconnect">Yes, disconnect {{ partner.name }}</Btn
            ><Btn @click="ending = false">Keep it</Btn>
          </template>
          <Btn v-if="asked.data.value?.deletable" kind="loss" title="It never did anything; this cannot be undone" @click="remove"
            >Delete it for good</Btn
          >
        </div>
      </Sight>
    </div>
  </Modal>
</template>
