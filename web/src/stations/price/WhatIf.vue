<script setup lang="ts">
/** The house's rules as sentences; a change is a draft whose effect on the whole catalogue is seen before it is made. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Effects from '@/parts/Effects.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { plural, count } from '@/parts/format'
import Dips from './Dips.vue'
import RuleForm from './RuleForm.vue'
import { keptDraft } from './draft'
import { asks, band, limits, moneyOf, type Rule } from './rules'
import { ruleAmount } from '@/parts/home'
import { rulesQuery, whatIfQuery } from './queries'

const asked = useQuery(rulesQuery())
const { data: real } = asked
const draft = keptDraft
// The rule in hand: null = a new one; undefined = none. `apart` tells an exception from a band of the house.
const editing = ref<Rule | null | undefined>(undefined)
const apart = ref(false)
function edit(rule: Rule | null, exception: boolean) {
  apart.value = exception
  editing.value = rule
}
// What is being typed, laid over the draft: seen at once, kept by nobody.
const trying = ref<Rule[] | null>(null)
const rules = computed(() => trying.value ?? draft.value ?? real.value ?? [])
const drafted = computed(() => draft.value ?? real.value ?? [])
const house = computed(() => rules.value.filter((rule) => rule.scope === 'house').sort((a, b) => (a.band_from ?? 0) - (b.band_from ?? 0)))
const others = computed(() => rules.value.filter((rule) => rule.scope !== 'house'))
const changed = computed(() => JSON.stringify(rules.value) !== JSON.stringify(real.value ?? []))
const {
  data: view,
  error,
  isFetching,
} = useQuery(
  computed(() => ({
    ...whatIfQuery({ rules: rules.value }),
    enabled: !!real.value,
    placeholderData: (before?: Schema<'WhatIfOut'>) => before,
    retry: false,
  })),
)
const left = ref(new Set<number>())
watch(rules, () => (left.value = new Set()))
const total = computed(() => (view.value ? (view.value.counts.rise ?? 0) + (view.value.counts.fall ?? 0) : 0))
const going = computed(() => (some.value ? picked.value.size : total.value - left.value.size))
const some = ref(false)
const picked = ref(new Set<number>())
watch(rules, () => ((some.value = false), (picked.value = new Set())))

function toggle(listing: number) {
  const set = some.value ? picked : left
  const next = new Set(set.value)
  if (!next.delete(listing)) next.add(listing)
  set.value = next
}
function laid(rule: Rule | null): Rule[] {
  const same = (one: Rule) =>
    !!rule && one.scope === rule.scope && one.scope_key === rule.scope_key && (one.band_from ?? 0) === (rule.band_from ?? 0)
  const rest = drafted.value.filter((one) => one !== editing.value && !same(one))
  return rule ? [...rest, rule] : rest
}
function save(rule: Rule | null) {
  draft.value = laid(rule)
  leave()
}
function leave() {
  trying.value = null
  editing.value = undefined
}
/** The band over an edge never goes under the price just below it: a draft, like any other change. */
function carry(dip: Schema<'DipOut'>) {
  const isBand = (rule: Rule) => (rule.band_from ?? 0) === dip.band_from && moneyOf(rule) === dip.money
  draft.value = rules.value.map((rule) =>
    ['house', 'store'].includes(rule.scope ?? '') && isBand(rule) ? { ...rule, least_price: dip.least } : rule,
  )
  leave()
}
async function apply() {
  if (!view.value || (!changed.value && !total.value)) return
  const only = some.value ? [...picked.value] : null
  const body = { rules: rules.value, seen: view.value.counts, only, leave: [...left.value] }
  const done = await act(() => take(api.POST('/api/v1/prices/apply', { body })))
  if (done) draft.value = null
}
const was = (rule: Rule) =>
  changed.value
    ? real.value?.find((one) => one.scope === rule.scope && one.scope_key === rule.scope_key && one.band_from === rule.band_from)
    : undefined
useKeys('Price', [
  { key: 'a', message: 'apply', run: () => void apply() },
  { key: 'escape', message: 'drop the draft', run: () => editing.value === undefined && (draft.value = null) },
])
</script>

<template>
  <div class="grid grid-cols-[400px_minmax(0,1fr)] overflow-hidden">
    <div v-if="editing !== undefined" class="overflow-auto border-r border-rule bg-sheet">
      <RuleForm :rule="editing" :exception="apart" @close="leave" @save="save" @try="trying = $event ? laid($event) : null" />
    </div>
    <section v-else class="overflow-auto border-r border-rule bg-sheet" aria-label="Rules">
      <div class="flex items-start justify-between p-4 pb-3">
        <div>
          <h1>How prices are made</h1>
          <p class="text-xs text-soft">
            The general rule by landed cost; {{ others.length ? plural(others.length, 'exception') + ' below' : 'no exceptions' }}
          </p>
        </div>
        <Btn small @click="edit(null, false)">Add a band</Btn>
      </div>
      <Sight v-if="!real" :of="asked" />
      <ul class="border-t border-rule-2">
        <li v-for="(rule, n) in house" :key="rule.band_from ?? 0">
          <button type="button" class="block w-full border-b border-rule-2 px-4 py-3 text-left hover:bg-shade" @click="edit(rule, false)">
            <span class="flex justify-between text-xs text-soft"
              ><span
                >Landed cost <b class="text-ink">{{ band(house, n) }}</b></span
              ><Tag v-if="changed && JSON.stringify(was(rule)) !== JSON.stringify(rule)" tone="info">draft</Tag></span
            >
            <span class="mt-1 block"
              ><b :class="was(rule) && asks(was(rule)!) !== asks(rule) ? 'border-b-2 border-pine' : ''">{{ asks(rule) }}</b
              ><s v-if="was(rule) && asks(was(rule)!) !== asks(rule)" class="ml-1.5 text-soft">{{ asks(was(rule)!) }}</s
              ><template v-for="part in limits(rule)" :key="part">, {{ part }}</template></span
            >
          </button>
        </li>
        <li v-if="real && !house.length" class="p-4 text-soft">
          No rule yet: every price is the lowest that loses nothing. Add a band to say what you want to earn.
        </li>
      </ul>
      <div class="flex items-baseline justify-between px-4 pt-4 pb-2">
        <h2>Exceptions, the nearest wins</h2>
        <Btn small @click="edit(null, true)">Add an exception</Btn>
      </div>
      <ul v-if="others.length" class="border-t border-rule-2">
        <li v-for="rule in others" :key="rule.scope + rule.scope_key + rule.band_from">
          <button type="button" class="block w-full border-b border-rule-2 px-4 py-2.5 text-left hover:bg-shade" @click="edit(rule, true)">
            <span class="flex justify-between text-xs text-soft"
              ><span
                >{{ rule.scope === 'sku' ? 'SKU' : rule.scope }} <b class="code text-ink">{{ rule.scope_key }}</b><template
                  v-if="rule.band_from"
                >
                  landed cost from {{ ruleAmount(rule.band_from, moneyOf(rule)) }}</template
                ></span
              ><Tag v-if="changed && JSON.stringify(was(rule)) !== JSON.stringify(rule)" tone="info">draft</Tag></span
            ><span class="mt-0.5 block"
              >{{ rule.rule ? asks(rule) : 'the rule as inherited'
              }}<template v-for="part in limits(rule)" :key="part">, {{ part }}</template></span
            >
          </button>
        </li>
      </ul>
      <p v-else-if="real" class="px-4 text-soft">None: every supplier, category, store and SKU follows the general rule.</p>
      <RouterLink to="/setup/limits" class="block px-4 py-3 font-semibold text-slate hover:underline"
        >What we follow, and what we hold</RouterLink
      >
    </section>
    <section class="min-w-0 overflow-auto p-4.5" aria-label="What if">
      <div class="flex items-baseline gap-3">
        <h1 class="whitespace-nowrap">{{ changed ? 'If you make it so' : 'As it is' }}</h1>
        <p class="truncate text-soft">
          {{
            changed ? "nothing has happened yet; worked out on today's costs" : 'change a rule at the left and see here what it would do'
          }}
        </p>
        <span class="ml-auto" /><Btn
          v-if="editing === undefined && total"
          small
          @click="((some = !some), (left = new Set()), (picked = new Set()))"
          >{{ some ? 'All of them' : 'Pick some' }}</Btn
        ><Btn v-if="editing === undefined && changed" @click="draft = null">Remove the draft</Btn
        ><Btn
          v-if="editing === undefined && (changed || total)"
          kind="main"
          hint="A"
          :disabled="isFetching || (!changed && !going)"
          @click="apply"
          >{{ going ? `Apply to ${count(going)}` : 'Apply' }}</Btn
        >
      </div>
      <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ wordsOf(error) }}</p>
      <Dips v-if="view" :dips="view.dips" @carry="carry" />
      <Effects
        v-if="view && !error"
        class="mt-2"
        :view="view"
        :draft="changed"
        :left="left"
        :picked="some ? picked : undefined"
        @toggle="toggle"
      />
    </section>
  </div>
</template>
