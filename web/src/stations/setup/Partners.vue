<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import { act, tell, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import SheetIn from '@/parts/SheetIn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { count, money } from '@/parts/format'
import EventChoice from './EventChoice.vue'
import { EVENTS } from './events'
import GoingLive from './GoingLive.vue'
import JoinForm from './JoinForm.vue'
import Looks from './Looks.vue'
import PartnerChange from './PartnerChange.vue'
import Services from './Services.vue'
import SheetsOut from './SheetsOut.vue'
import SheetColumns from './SheetColumns.vue'
import Terms from './Terms.vue'
import TokenShown from './TokenShown.vue'
import { partnersQuery } from './queries'

type Partner = Schema<'PartnerOut'>
const asked = useQuery(partnersQuery())
const { data } = asked
const route = useRoute()
const router = useRouter()
type Owner = 'store' | 'supplier' | 'carrier' | 'rates' | 'mailbox' | 'inbox' | 'files' | 'webhook'
const told = ref<Partner | null>(null)
const events = ref<Schema<'EventGroup'>[]>([])
function choose(one: Partner) {
  events.value = (one.events ?? []) as Schema<'EventGroup'>[]
  told.value = one
}
const toldOf = (events: string[]) =>
  Object.entries(EVENTS)
    .filter(([event]) => events.includes(event))
    .map(([, words]) => words)
    .join(', ')
async function keepEvents() {
  const one = told.value!
  const done = await act(() =>
    take(
      api.POST('/api/v1/setup/webhooks/{number}/events', {
        params: { path: { number: one.id } },
        body: { version: one.version, events: events.value },
      }),
    ),
  )
  if (done) told.value = null
}
const joining = ref<Owner | null>(null)
const mending = ref<Partner | null>(null)
const services = ref<Partner | null>(null)
const terms = ref<Partner | null>(null)
const bring = ref<Partner | null>(null)
const columns = ref<Partner | null>(null)
const sheets = ref<Partner | null>(null)
const token = ref<{ token: string; store: string } | null>(null)
const renewing = ref<Partner | null>(null)
const BY_SHEETS = ['folder', 'sheet']
const DEPOTS = ['depot_api', 'depot_sheet']
function joined(one: Schema<'Joined'>, kind: string) {
  const owner = joining.value
  joining.value = null
  if (one.token) token.value = { token: one.token, store: one.name }
  if (owner === 'files') void router.push('/setup/files')
  // Its columns are named next; the list on the screen may not hold it yet.
  if (kind === 'folder')
    void partnersQuery()
      .queryFn()
      .then((all) => {
        columns.value = all.find((other) => other.owner === 'supplier' && other.id === one.id) ?? null
      })
}
async function newToken(one: Partner) {
  renewing.value = null
  try {
    const made = await take(api.POST('/api/v1/setup/stores/{number}/token', { params: { path: { number: one.id } } }))
    token.value = { token: made.token!, store: one.name }
  } catch (problem) {
    tell(wordsOf(problem), true)
  }
}
const link = reactive({ address: '', key: '' })
const wrong = ref('')
const NAMES = {
  store: 'Stores',
  supplier: 'Suppliers',
  carrier: 'Carriers',
  rates: 'Exchange rates',
  mailbox: 'Mail that we send',
  inbox: 'Mail that comes in',
  files: 'Servers of files',
  webhook: 'Told of events',
} as const
const CALLED: Record<string, string> = {
  mailbox: 'a mail server',
  rates: 'a bank',
  inbox: 'a mailbox',
  files: 'a server',
  webhook: 'an address of ours',
}
const looks = ref<Partner | null>(null)
const changing = ref<Partner | null>(null)
const SWITCHES: Record<string, string> = {
  read_orders: 'reads orders',
  watching: 'swept by the clock',
  replacements: 'permits replacements',
}
const OUT = { stock: 'stock is written', prices: 'prices are written', orders: 'orders are bought' } as const
const live = ref<{ store: Partner; what: keyof typeof OUT } | null>(null)
/** Off is off at once; on is looked at first. */
function turn(one: Partner, what: keyof typeof OUT, box: EventTarget | null) {
  const on = !one.goes_out?.[what]
  if (box) (box as HTMLInputElement).checked = !on
  if (on) live.value = { store: one, what }
  else
    void act(() =>
      take(
        api.POST('/api/v1/setup/stores/{number}/out/{what}/off', {
          params: { path: { number: one.id, what } },
          body: { version: one.version },
        }),
      ),
    )
}
/** A link may lead straight to what is to be done here: connect=store, listings=3, items=2, out=prices&store=3. */
watch(
  [data, () => route.query],
  ([now]) => {
    const { connect, listings, items, out, store, sheets: of, owner } = route.query
    if (!now || !Object.keys(route.query).length) return
    const one = (owner: string, id: unknown) => now.find((row) => row.owner === owner && row.id === Number(id))
    if (typeof connect === 'string' && connect in NAMES) joining.value = connect as Owner
    const shop = one('store', listings)
    if (shop?.kind === 'sheet') bring.value = shop
    if (typeof owner === 'string' && of) sheets.value = one(owner, of) ?? null
    const supplier = one('supplier', items)
    if (supplier && BY_SHEETS.includes(supplier.kind)) columns.value = supplier
    const seller = one('store', store)
    if (seller && typeof out === 'string' && out in OUT && !seller.goes_out?.[out])
      live.value = { store: seller, what: out as keyof typeof OUT }
    void router.replace({ query: {} })
  },
  { immediate: true },
)
/** What works by sheets is read by nobody's clock. */
const switchesOf = (one: Partner) =>
  DEPOTS.includes(one.kind)
    ? {}
    : one.kind !== 'sheet'
      ? one.switches
      : one.owner === 'supplier'
        ? {}
        : { replacements: one.switches.replacements! }
const TONE: Record<string, 'good' | 'loss' | 'waits' | 'plain'> = { good: 'good', broken: 'loss', failing: 'waits' }
/** What a partner allows: calls at its last answer, and what a store may show. */
function bounds(one: Partner): string {
  const shows = [
    one.allowance_listings && `${count(one.allowance_listings)} listings`,
    one.allowance_units && `${count(one.allowance_units)} units`,
    one.allowance_value && `a value of ${money(one.allowance_value)}`,
  ].filter(Boolean)
  return [
    one.calls_limit && `${count(one.calls_limit - (one.calls_left ?? 0))} of ${count(one.calls_limit)} calls used`,
    shows.length && `shows up to ${shows.join(', ')}${one.allowance_by_hand ? ', by your word' : ''}`,
  ]
    .filter(Boolean)
    .join('; ')
}
const flip = (one: Partner, name: string, on: boolean) =>
  act(() =>
    take(
      api.PATCH('/api/v1/setup/partners/{owner}/{number}', {
        params: { path: { owner: one.owner, number: one.id } },
        body: { version: one.version, [name]: on },
      }),
    ),
  )
const check = (one: Partner) =>
  act(() =>
    take(
      api.POST('/api/v1/setup/partners/{owner}/{number}/link', {
        params: { path: { owner: one.owner, number: one.id } },
        body: { address: '', key: '' },
      }),
    ),
  )
function mend(one: Partner) {
  link.address = one.address
  link.key = ''
  wrong.value = ''
  mending.value = one
}
async function renew() {
  const one = mending.value!
  try {
    const done = await take(
      api.POST('/api/v1/setup/partners/{owner}/{number}/link', {
        params: { path: { owner: one.owner, number: one.id } },
        body: { ...link },
      }),
    )
    mending.value = null
    void act(() => Promise.resolve(done))
  } catch (problem) {
    wrong.value = wordsOf(problem)
  }
}
</script>

<template>
  <div>
    <Sight v-if="!data" :of="asked" :lines="8" />
    <section v-for="(label, owner) in data ? NAMES : {}" :key="owner" class="mb-5 max-w-7xl">
      <div class="mb-2 flex items-center gap-3">
        <h1>{{ label }}</h1>
        <Btn v-if="owner !== 'mailbox' || !data?.some((one) => one.owner === 'mailbox')" small @click="joining = owner"
          >Connect {{ CALLED[owner] ?? `a ${owner}` }}</Btn
        >
      </div>
      <div class="sheet">
        <div
          v-for="one in (data ?? []).filter((other) => other.owner === owner)"
          :key="one.id"
          class="grid grid-cols-[210px_110px_minmax(160px,1fr)_minmax(0,max-content)] items-center gap-4 xl:grid-cols-[240px_110px_minmax(160px,1fr)_minmax(0,max-content)] border-b border-rule-2 px-4 py-2.5 last:border-0"
        >
          <div>
            <b>{{ one.name }}</b> <span class="code text-soft">{{ one.code }}</span><span class="block text-xs text-soft">{{
              [
                one.country,
                one.account && `account ${one.account}`,
                one.described && `described: ${one.described}`,
                [one.currency, ...one.also].filter(Boolean).join(' and '),
                one.sweep_minutes && one.switches.watching ? `every ${one.sweep_minutes} min` : '',
              ]
                .filter(Boolean)
                .join(', ')
            }}</span>
          </div>
          <div>
            <Tag v-if="one.ended_at">disconnected</Tag><Tag v-else-if="one.paused_at" tone="waits">paused</Tag
            ><Tag
              v-else-if="one.goes_out && !Object.values(one.goes_out).some(Boolean)"
              tone="waits"
              title="All is read, decided and shown; nothing is written or bought"
              >in practice</Tag
            ><Tag v-else :tone="TONE[one.state] ?? 'plain'">{{ one.state === 'good' ? 'link works' : one.state }}</Tag
            ><span v-if="one.good_at" class="block text-xs text-soft">good <When ago :at="one.good_at" /></span
            ><span v-if="one.sheet_at" class="block text-xs text-soft">sheet of <When ago :at="one.sheet_at" /></span>
          </div>
          <div class="min-w-0">
            <span v-if="one.events" class="block truncate text-xs text-soft" :title="one.address"
              >{{ one.address }}: {{ toldOf(one.events) }}</span
            ><span v-if="one.message" class="block text-brick">{{ one.message }}</span
            ><span v-else-if="one.may.length" class="block text-xs wrap-anywhere text-soft" :title="one.address"
              >may {{ one.may.join(', ') }}</span
            ><span v-if="bounds(one)" class="block text-xs text-soft">{{ bounds(one) }}</span
            ><span class="flex flex-wrap gap-x-3.5"
              ><label v-for="(message, what) in one.goes_out ? OUT : {}" :key="what" class="flex min-h-6 items-center gap-1.5 text-xs"
                ><input type="checkbox" class="accent-pine" :checked="one.goes_out?.[what]" @change="turn(one, what, $event.target)" />{{
                  message
                }}</label
              ><label v-for="(on, name) in switchesOf(one)" :key="name" class="flex min-h-6 items-center gap-1.5 text-xs"
                ><input type="checkbox" class="accent-pine" :checked="on" @change="flip(one, name, !on)" />{{ SWITCHES[name] }}</label
              ></span
            >
          </div>
          <div class="flex flex-wrap justify-end gap-2">
            <Btn
              v-if="one.owner === 'supplier' && BY_SHEETS.includes(one.kind)"
              small
              :kind="one.columns_named ? undefined : 'main'"
              @click="columns = one"
              >{{ one.kind === 'folder' ? 'Columns' : 'Import items' }}</Btn><Btn
              v-if="one.kind === 'program'"
              small
              @click="renewing = one"
              >New token</Btn
            ><template v-else-if="['sheet', 'depot_sheet'].includes(one.kind)"
              ><Btn v-if="one.owner === 'store'" small @click="bring = one">Import listings</Btn
              ><Btn small @click="sheets = one">Sheets out</Btn></template
            ><template v-else-if="one.kind !== 'by_hand'"
              ><Btn small @click="check(one)">Check</Btn><Btn small @click="mend(one)">New key</Btn></template
            ><Btn v-if="one.owner === 'webhook'" small @click="choose(one)">Events</Btn
            ><Btn v-if="one.owner === 'supplier'" small @click="services = one">Services</Btn
            ><Btn v-if="one.owner === 'supplier' && one.kind !== 'sheet' && !DEPOTS.includes(one.kind)" small @click="looks = one"
              >Sweeps</Btn
            ><Btn v-if="one.owner === 'supplier'" small @click="terms = one">Terms</Btn
            ><Btn small :aria-label="`Change ${one.name}`" @click="changing = one">Change</Btn>
          </div>
        </div>
        <p v-if="data && !data.some((one) => one.owner === owner)" class="px-4 py-3 text-soft">None is connected yet.</p>
      </div>
    </section>
    <Modal
      :open="!!joining"
      :title="`Connect ${CALLED[joining ?? ''] ?? `a ${joining}`}`"
      message="Whoever can be called is asked with your key before anything is kept."
      @close="joining = null"
      ><JoinForm v-if="joining" :owner="joining" leaves @done="joined" @leave="joining = null"
    /></Modal>
    <Modal
      :open="!!mending"
      :title="`Link to ${mending?.name}`"
      message="The new address and key are tried before the old ones are dropped."
      @close="mending = null"
    >
      <label class="block"><span class="label">Address</span><input v-model="link.address" class="field code" maxlength="500" /></label>
      <label class="mt-3 block"
        ><span class="label">Key (empty = keep the one we have; it is never shown)</span
        ><input v-model="link.key" type="password" autocomplete="off" class="field code" maxlength="8000"
      /></label>
      <p v-if="wrong" role="alert" class="mt-2 text-brick">{{ wrong }}</p>
      <template #acts><Btn @click="mending = null">Cancel</Btn><Btn kind="main" @click="renew">Check and save</Btn></template>
    </Modal>
    <Modal
      :open="!!renewing"
      :title="`A new token for ${renewing?.name}`"
      message="The old token ends at once, and the program that runs with it stops. This cannot be undone; start the program again with the new one."
      @close="renewing = null"
      ><template #acts
        ><Btn @click="renewing = null">Cancel</Btn><Btn kind="main" @click="newToken(renewing!)">Make a new token</Btn></template
      ></Modal
    >
    <Modal
      :open="!!told"
      :title="`What ${told?.name} is told of`"
      message="Each is one signed POST, sent again until it is heard; it may come twice with the same id."
      @close="told = null"
    >
      <EventChoice v-if="told" v-model="events" />
      <template #acts
        ><Btn @click="told = null">Cancel</Btn><Btn kind="main" :disabled="!events.length" @click="keepEvents">Keep it</Btn></template
      >
    </Modal>
    <TokenShown v-if="token" v-bind="token" @close="token = null" />
    <SheetColumns v-if="columns" :supplier="columns" @close="columns = null" />
    <SheetsOut v-if="sheets" :partner="sheets" @close="sheets = null" />
    <GoingLive v-if="live" :store="live.store" :what="live.what" @close="live = null" />
    <Looks v-if="looks" :supplier="looks" @close="looks = null" />
    <PartnerChange v-if="changing" :partner="changing" @close="changing = null" @link="((changing = null), mend($event))" />
    <Terms v-if="terms" :supplier="terms" @close="terms = null" />
    <Services v-if="services" :supplier="services" @close="services = null" />
    <SheetIn
      v-if="bring"
      :open="true"
      sheet="listings"
      :title="`Import listings of ${bring.name}`"
      :always="{ store: bring.name }"
      @close="bring = null"
    />
  </div>
</template>
