<script setup lang="ts">
/** What we follow by ourselves, and what we hold for a person: the house's policy as sentences. */
import { useQuery } from '@tanstack/vue-query'
import { reactive, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { tell } from '@/app/told'
import Btn from '@/parts/Btn.vue'
import DraftModal from '@/parts/DraftModal.vue'

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
      ['refund_cost', 'What one refund costs beside the goods, £', 'money'],
    ],
  ],
  [
    'Lanes',
    [
      ['open_sure', 'Open lanes by themselves where the likeness is sure', 'switch'],
      ['slow_below', 'Slow when surely fewer come by the promise than, %', 'share'],
      ['shut_below', 'Shut when surely fewer orders are taken than, %', 'share'],
    ],
  ],
  [
    'Orders',
    [
      ['least_order_profit', 'Hold an order that earns less than, £', 'money'],
      ['look_over', 'Let me look at orders worth more than, £', 'money'],
      ['send', 'Send ready orders', 'word', ['hand', 'once', 'after']],
      ['send_minutes', 'if after: how many minutes', 'count'],
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
}
const { data } = useQuery({ queryKey: ['policy'], queryFn: () => take(api.GET('/api/v1/prices/policy')) })
const form = reactive<Record<string, string | boolean>>({})
const touched = ref(false)
const out = (kind: Kind, value: unknown): string | boolean =>
  kind === 'switch'
    ? !!value
    : kind === 'money'
      ? (Number(value) / 100).toFixed(2)
      : kind === 'share'
        ? String(Number(value) / 10_000)
        : String(value)
watch(
  data,
  (now) => {
    if (!now || touched.value) return
    for (const [, rows] of GROUPS) for (const [name, , kind] of rows) form[name] = out(kind, now.fields[name])
  },
  { immediate: true },
)
const draft = ref<Schema<'PolicyBody'> | null>(null)
function look() {
  const fields: Record<string, string | number | boolean> = {}
  for (const [, rows] of GROUPS)
    for (const [name, label, kind] of rows) {
      const value = form[name]!
      if (kind === 'switch' || kind === 'word') {
        fields[name] = value
        continue
      }
      const n = Number(String(value).replace(',', '.'))
      if (!Number.isFinite(n) || (n < 0 && name !== 'least_order_profit')) return tell(`"${label}" needs a number`, true)
      fields[name] = Math.round(kind === 'money' ? n * 100 : kind === 'share' ? n * 10_000 : n)
    }
  draft.value = { scope: 'house', key: '', fields }
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
    <div v-if="data" class="max-w-6xl columns-2 gap-3">
      <section
        v-for="[title, rows] in GROUPS"
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
          <input v-if="kind === 'switch'" v-model="form[name]" type="checkbox" class="size-4 accent-pine" />
          <select v-else-if="kind === 'word'" v-model="form[name]" class="field w-44!">
            <option v-for="word in words" :key="word" :value="word">{{ WORDS[word] }}</option>
          </select>
          <input v-else v-model="form[name]" class="field w-24! text-right" inputmode="decimal" maxlength="10" />
        </label>
      </section>
    </div>
    <DraftModal v-if="draft" title="Limits of the house" :draft="{ policy: draft }" @close="draft = null" @done="kept" />
  </div>
</template>
