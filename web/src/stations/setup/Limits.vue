<script setup lang="ts">
/** What we follow by ourselves, and what we hold for a person: the house's policy as sentences, and where one supplier,
 *  category, store or SKU has it otherwise. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { type Schema } from '@/api/client'
import { tell } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Accounts from './Accounts.vue'
import DraftModal from '@/parts/DraftModal.vue'
import Sight from '@/parts/Sight.vue'
import { homeSign, typed, untyped } from '@/parts/home'
import { inField, numberOf } from '@/parts/format'
import { policyQuery, scopesQuery } from '@/stations/price/queries'

type Kind = 'switch' | 'count' | 'money' | 'share' | 'word'
const GROUPS: [string, [string, string, Kind, string[]?][]][] = [
  [
    'What the listing follows',
    [
      ['follow_price', "Follow the supplier's price", 'switch'],
      ['follow_stock', "Follow the supplier's stock", 'switch'],
      ['cap', 'Show at most', 'count'],
      ['cushion', "Keep back from the supplier's stock", 'count'],
      ['share', 'Listings that share an item share its stock', 'switch'],
    ],
  ],
  [
    'When nothing is left',
    [
      ['at_none', 'None left: then', 'word', ['hide', 'zero', 'leave', 'end']],
      ['at_gone', 'Item sold no more: then', 'word', ['hide', 'zero', 'leave', 'end']],
      ['pause_at', 'Pause when it would show at most', 'count'],
      ['resume_at', 'Come back when there are at least', 'count'],
      ['resume_sweeps', 'seen in so many sweeps running', 'count'],
      ['loss_pauses', 'Pause what would lose money', 'switch'],
      ['held_pauses', 'Pause what breaks a limit, too', 'switch'],
    ],
  ],
  [
    'Not to be fooled',
    [
      ['doubt_percent', 'Doubt a cost that moves by more than, %', 'share'],
      ['doubt_again', 'until it was seen again so many times', 'count'],
      ['doubt_deviations', 'or by so many times what it usually moves (0 = off)', 'count'],
      ['hold_share', 'Hold a sweep when more than this share falls to 0, %', 'share'],
      ['hold_median', 'or the median cost moves by more than, %', 'share'],
      ['stale_hours', 'Believe old stock for at most, hours', 'count'],
      ['sheet_days', 'Believe a sheet brought in by hand for at most, days (0 = for ever)', 'count'],
      ['wait_over', 'Ask me when more prices than this move at once (0 = never)', 'count'],
      ['look_gap_hours', 'One item a call: look at each at least every, hours', 'count'],
    ],
  ],
  [
    'What a unit costs',
    [
      ['currency_cushion', 'Where currencies differ, add for a moving rate, %', 'share'],
      ['rebate_counts', 'Count a rebate that is only expected', 'switch'],
      ['reserve_real', 'Keep for returns what really came back, where no rule says', 'switch'],
      ['refund_cost', `What one refund costs beside the goods, ${homeSign.value}`, 'money'],
    ],
  ],
  [
    'Lanes',
    [
      ['open_sure', 'Open lanes by themselves where the likeness is sure', 'switch'],
      ['open_packs', 'also where only the pack differs, in its units', 'switch'],
      ['slow_below', 'Slow when surely fewer come by the promise than, %', 'share'],
      ['shut_below', 'Shut when surely fewer orders are taken than, %', 'share'],
    ],
  ],
  [
    'Orders',
    [
      ['least_order_profit', `Hold an order that earns less than, ${homeSign.value}`, 'money'],
      ['look_over', `Let me look at orders worth more than, ${homeSign.value}`, 'money'],
      ['unusual_times', 'or of so many times what is usual for the SKU (0 = never)', 'count'],
      ['split_over', `or in several parcels that cost more to send than, ${homeSign.value}`, 'money'],
      ['hold_twice', 'Hold what was perhaps ordered twice: same buyer, address and SKU within a day', 'switch'],
      ['letters', 'Names in letters that are not Latin', 'word', ['ask', 'latin', 'all']],
      ['late_cost', `What a late parcel costs on average, ${homeSign.value}`, 'money'],
      ['send', 'Send ready orders', 'word', ['hand', 'once', 'after']],
      ['send_minutes', 'if after: how many minutes', 'count'],
    ],
  ],
  [
    'Parcels and cases',
    [
      ['arrived_after_days', 'Take a parcel as arrived when nothing was heard of it for, days (0 = never)', 'count'],
      ['claim_window', 'Suppliers take claims for, days after buying (0 = for ever)', 'count'],
      ['claim_days', 'A supplier has to answer a claim within, days', 'count'],
      ['claim_reminders', 'and is reminded so many times before it is yours', 'count'],
    ],
  ],
]
const WORDS: Record<string, string> = {
  hide: 'take it off sale',
  zero: 'show 0',
  leave: 'leave it',
  end: 'end it for good',
  hand: 'by hand',
  once: 'at once',
  after: 'after some minutes',
  ask: 'ask me',
  latin: 'write them in Latin letters',
  all: 'leave them as they are',
}
const asked = useQuery(policyQuery())
const { data } = asked
const { data: scopes } = useQuery({ ...scopesQuery(), meta: { live: false } })
const form = reactive<Record<string, string | boolean>>({})
const touched = ref(false)
// Whose limits are shown: the house's, or one exception's, where an empty field is inherited.
const scope = ref('house')
const key = ref('')
const house = computed(() => scope.value === 'house')
const HERE = ['What the listing follows', 'When nothing is left', 'Not to be fooled', 'What a unit costs']
/** Orders and parcels have a store; of a supplier only how it is sent orders, and its claims, may differ. */
const OF_SCOPE: Record<string, (name: string) => boolean> = {
  store: (name) => !name.startsWith('claim'),
  supplier: (name) => /^(send|claim)/.test(name),
}
const groups = computed(() => {
  if (house.value) return GROUPS
  const rest = GROUPS.filter(([title]) => HERE.includes(title))
  const more = GROUPS.filter(([title]) => ['Orders', 'Parcels and cases'].includes(title))
  const of = OF_SCOPE[scope.value]
  return of ? [...rest, ...more.map(([title, rows]): (typeof GROUPS)[number] => [title, rows.filter(([name]) => of(name))])] : rest
})
const names = computed(() => (scope.value === 'sku' || house.value ? [] : (scopes.value?.[scope.value as 'store'] ?? [])))
const mine = computed(() => data.value?.own.find((one) => one.scope === scope.value && one.key === key.value)?.fields ?? {})
const nameOf = (one: { scope: string; key: string }) =>
  (one.scope === 'sku' ? undefined : scopes.value?.[one.scope as 'store']?.find(({ code }) => code === one.key)?.name) ?? one.key
function look_at(which: string, whose: string) {
  scope.value = which
  key.value = whose
  touched.value = false
}
const out = (kind: Kind, value: unknown): string | boolean =>
  kind === 'switch' ? !!value : kind === 'money' ? typed(Number(value)) : kind === 'share' ? inField(Number(value) / 10_000) : String(value)
watch(data, () => fill(), { immediate: true })
watch([scope, key], () => fill())
function fill() {
  const now = data.value
  if (!now || touched.value) return
  for (const [, rows] of GROUPS)
    for (const [name, , kind] of rows) {
      const own = mine.value[name]
      form[name] = house.value
        ? out(kind, now.fields[name])
        : own === undefined || own === null
          ? ''
          : kind === 'switch'
            ? own
              ? 'yes'
              : 'no'
            : out(kind, own)
    }
}
/** What would hold without a word of its own. */
const inherited = (name: string, kind: Kind): string => {
  const value = out(kind, data.value?.fields[name])
  return kind === 'switch' ? (value ? 'yes' : 'no') : kind === 'word' ? (WORDS[String(value)] ?? String(value)) : String(value)
}
const draft = ref<Schema<'PolicyBody'> | null>(null)
function look() {
  if (!house.value && !key.value.trim()) return tell('Say whose limits these are', true)
  const fields: Record<string, string | number | boolean | null> = {}
  for (const [, rows] of groups.value)
    for (const [name, label, kind] of rows) {
      const value = form[name]!
      if (!house.value && value === '') {
        // What has no word of its own is inherited again.
        if (mine.value[name] !== undefined) fields[name] = null
        continue
      }
      if (!house.value && kind === 'switch') {
        fields[name] = value === 'yes'
        continue
      }
      if (kind === 'switch' || kind === 'word') {
        fields[name] = value
        continue
      }
      const n = numberOf(String(value))
      if (!Number.isFinite(n) || (n < 0 && name !== 'least_order_profit')) return tell(`"${label}" needs a number`, true)
      fields[name] = Math.round(kind === 'money' ? untyped(String(value)) : kind === 'share' ? n * 10_000 : n)
    }
  draft.value = { scope: scope.value, key: house.value ? '' : key.value.trim(), fields }
}
function kept() {
  draft.value = null
  touched.value = false
}
</script>

<template>
  <div>
    <div class="mb-3 flex max-w-6xl items-center">
      <div>
        <h1>Limits</h1>
        <p class="text-soft">
          What Amber Lane does by itself, and what it holds for you. A change is seen before it is made, and can be undone.
        </p>
      </div>
      <span class="ml-auto" /><Btn kind="main" :disabled="!touched" @click="look">See what it does</Btn>
    </div>
    <div class="mb-3 flex max-w-6xl flex-wrap items-center gap-2">
      <label class="flex items-center gap-2"
        ><span class="text-soft">Whose</span
        ><select class="field w-44!" :value="scope" @change="look_at(($event.target as HTMLSelectElement).value, '')">
          <option value="house">everything</option>
          <option value="supplier">a supplier's items</option>
          <option value="category">a category</option>
          <option value="store">a store</option>
          <option value="sku">one SKU</option>
        </select></label
      >
      <select v-if="!house && scope !== 'sku'" v-model="key" class="field w-56!" aria-label="Which" @change="touched = false">
        <option value="" disabled>choose</option>
        <option v-for="{ code, name } in names" :key="code" :value="code">{{ name }}</option>
      </select>
      <input
        v-else-if="!house"
        v-model.lazy="key"
        class="field code w-56!"
        maxlength="100"
        placeholder="its number"
        aria-label="Which SKU"
        @change="touched = false"
      />
      <template v-if="data?.own.length"
        ><span class="ml-4 text-soft">Different from the general limits:</span
        ><Btn v-for="one in data.own" :key="one.scope + one.key" small @click="look_at(one.scope, one.key)">{{
          nameOf(one)
        }}</Btn></template
      >
      <p v-if="!house" class="w-full text-xs text-soft">
        An empty field is inherited; the nearest one wins: SKU, store, category, supplier, general.
      </p>
    </div>
    <Sight :of="asked" :lines="10" />
    <div v-if="data && (house || key)" class="max-w-6xl columns-2 gap-3">
      <section
        v-for="[title, rows] in groups"
        :key="title"
        class="sheet mb-3 break-inside-avoid p-4"
        @input="touched = true"
        @change="touched = true"
      >
        <h2 class="mb-1">{{ title }}</h2>
        <label
          v-for="[name, label, kind, words] in rows"
          :key="name"
          class="flex h-9 items-center justify-between gap-4 border-b border-rule-2 last:border-0"
          ><span>{{ label }}</span>
          <input v-if="house && kind === 'switch'" v-model="form[name]" type="checkbox" class="size-4 accent-pine" />
          <select v-else-if="kind === 'switch'" v-model="form[name]" class="field w-44!">
            <option value="">as inherited ({{ inherited(name, kind) }})</option>
            <option value="yes">yes</option>
            <option value="no">no</option>
          </select>
          <select v-else-if="kind === 'word'" v-model="form[name]" class="field" :class="house ? 'w-44!' : 'w-60!'">
            <option v-if="!house" value="">as inherited ({{ inherited(name, kind) }})</option>
            <option v-for="word in words" :key="word" :value="word">{{ WORDS[word] }}</option>
          </select>
          <input
            v-else
            v-model="form[name]"
            class="field w-24! text-right"
            inputmode="decimal"
            maxlength="10"
            :placeholder="house ? '' : inherited(name, kind)"
          />
        </label>
      </section>
    </div>
    <Accounts v-if="house" class="mt-3" />
    <DraftModal
      v-if="draft"
      :title="house ? 'General limits' : `Limits of ${nameOf({ scope, key })}`"
      :draft="{ policy: draft }"
      @close="draft = null"
      @done="kept"
    />
  </div>
</template>
