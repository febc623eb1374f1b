<script setup lang="ts">
/** The house's rules as sentences; a change is a draft whose effect on the whole catalogue is seen before it is made. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, take } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act, wordsOf } from '@/app/told'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Tag from '@/parts/Tag.vue'
import { money, number, percent, plural } from '@/parts/format'
import Histogram from './Histogram.vue'
import RuleForm from './RuleForm.vue'
import { asks, band, limits, type Rule } from './rules'

const { data: real } = useQuery({ queryKey: ['rules'], queryFn: () => take(api.GET('/api/v1/prices/rules')) })
const draft = ref<Rule[] | null>(null)
const editing = ref<number | null>(null)
const rules = computed(() => draft.value ?? real.value ?? [])
const house = computed(() => rules.value.filter((rule) => rule.scope === 'house').sort((a, b) => (a.band_from ?? 0) - (b.band_from ?? 0)))
const others = computed(() => rules.value.filter((rule) => rule.scope !== 'house'))
const changed = computed(() => !!draft.value && JSON.stringify(draft.value) !== JSON.stringify(real.value))
const { data: view, error, isFetching } = useQuery({
  queryKey: computed(() => ['what-if', rules.value]),
  queryFn: () => take(api.POST('/api/v1/prices/what-if', { body: { rules: rules.value } })),
  enabled: computed(() => !!real.value), placeholderData: (before) => before, retry: false,
})
const left = ref(new Set<number>())
watch(rules, () => (left.value = new Set()))
const moves = computed(() => (view.value?.movers ?? []).filter((one) => one.now.amount !== one.then.amount))
const held = computed(() => (view.value?.movers ?? []).filter((one) => one.now.amount === one.then.amount))
const total = computed(() => (view.value ? (view.value.counts.rise ?? 0) + (view.value.counts.fall ?? 0) : 0))
const going = computed(() => total.value - left.value.size)

function toggle(listing: number) {
  const next = new Set(left.value)
  if (!next.delete(listing)) next.add(listing)
  left.value = next
}
function save(rule: Rule | null) {
  const old = editing.value === null ? null : (house.value[editing.value] ?? null)
  const rest = rules.value.filter((one) => one !== old && !(rule && one.scope === 'house' && one.band_from === rule.band_from))
  draft.value = rule ? [...rest, rule] : rest
  editing.value = null
}
async function apply() {
  if (!view.value || (!changed.value && !total.value)) return
  const { rise = 0, fall = 0 } = view.value.counts
  const only = left.value.size ? moves.value.filter((one) => !left.value.has(one.listing)).map((one) => one.listing) : null
  const done = await act(() => take(api.POST('/api/v1/prices/apply', { body: { rules: rules.value, seen: { rise, fall }, only } })))
  if (done) draft.value = null
}
const was = (rule: Rule) => (changed.value ? real.value?.find((one) => one.scope === rule.scope && one.scope_key === rule.scope_key && one.band_from === rule.band_from) : undefined)
useKeys('Price', [
  { key: 'a', told: 'apply', run: () => void apply() },
  { key: 'escape', told: 'drop the draft', run: () => (draft.value = null) },
])
</script>

<template>
  <div class="grid grid-cols-[400px_minmax(0,1fr)] overflow-hidden">
    <section class="overflow-auto border-r border-rule bg-sheet" aria-label="Rules">
      <div class="flex items-start justify-between p-4 pb-3"><div><h1>How prices are made</h1><p class="text-xs text-soft">The house's rule by landed cost; {{ others.length ? plural(others.length, 'exception') + ' below' : 'no exceptions' }}</p></div><Btn small @click="editing = -1">Add a band</Btn></div>
      <ul class="border-t border-rule-2">
        <li v-for="(rule, n) in house" :key="rule.band_from ?? 0">
          <button type="button" class="block w-full border-b border-rule-2 px-4 py-3 text-left hover:bg-shade" @click="editing = n">
            <span class="flex justify-between text-xs text-soft"><span>Landed cost <b class="text-ink">{{ band(house, n) }}</b></span><Tag v-if="changed && JSON.stringify(was(rule)) !== JSON.stringify(rule)" tone="info">draft</Tag></span>
            <span class="mt-1 block"><b :class="was(rule) && asks(was(rule)!) !== asks(rule) ? 'border-b-2 border-pine' : ''">{{ asks(rule) }}</b><s v-if="was(rule) && asks(was(rule)!) !== asks(rule)" class="ml-1.5 text-soft">{{ asks(was(rule)!) }}</s><template v-for="part in limits(rule)" :key="part">, {{ part }}</template></span>
          </button>
        </li>
        <li v-if="real && !house.length" class="p-4 text-soft">No rule yet: every price is the lowest that loses nothing. Add a band to say what you want to keep.</li>
      </ul>
      <div v-if="others.length" class="p-4"><h2>Exceptions, nearest wins</h2><p v-for="rule in others" :key="rule.scope + rule.scope_key + rule.band_from" class="mt-2 flex justify-between"><span><span class="text-soft">{{ rule.scope }}</span> <span class="code">{{ rule.scope_key }}</span></span><span class="text-soft">{{ asks(rule) }}{{ limits(rule).length ? ', ' + limits(rule).join(', ') : '' }}</span></p></div>
      <RouterLink to="/setup/limits" class="block px-4 py-3 font-semibold text-slate hover:underline">What we follow, and what we hold</RouterLink>
    </section>
    <section class="min-w-0 overflow-auto p-4.5" aria-label="What if">
      <div class="flex items-baseline gap-3"><h1>{{ changed ? 'If you make it so' : 'As it is' }}</h1><p class="truncate text-soft">{{ changed ? "nothing has happened yet; worked out on today's costs" : 'change a rule at the left and see here what it would do' }}</p><span class="ml-auto" /><Btn v-if="changed" @click="draft = null">Drop the draft</Btn><Btn v-if="changed || total" kind="main" hint="A" :disabled="isFetching || (!changed && !going)" @click="apply">{{ going ? `Apply to ${going.toLocaleString('en-GB')}` : 'Apply' }}</Btn></div>
      <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ wordsOf(error) }}</p>
      <template v-else-if="view">
        <p class="mt-2 flex gap-7 text-soft"><span><b class="text-lg text-ink">{{ view.counts.rise }}</b> prices rise</span><span><b class="text-lg text-ink">{{ view.counts.fall }}</b> fall</span><span><b class="text-lg text-ink">{{ view.counts.limit }}</b> meet a limit</span><span><b class="text-lg" :class="view.counts.held ? 'text-amber-ink' : 'text-ink'">{{ view.counts.held }}</b> would wait for you</span><span><b class="text-lg" :class="number(view.a_day) < 0 ? 'text-brick' : 'text-pine'">{{ money(view.a_day, true) }}</b> a day at today's pace</span></p>
        <div class="sheet mt-3 p-3.5"><Histogram :bins="view.bins" :now="view.now" :then="view.then" :draft="changed" /></div>
        <div class="sheet mt-3 overflow-hidden">
          <table v-if="moves.length || held.length" class="w-full">
            <thead><tr class="h-8 border-b border-rule text-2xs text-soft"><th class="w-9" /><th class="px-2">Moves most</th><th class="px-2 text-right">Now</th><th class="px-2 text-right">Then</th><th class="px-2 text-right">Step</th><th class="px-2 text-right">Margin</th><th class="px-3">Set by</th></tr></thead>
            <tbody>
              <tr v-for="one in moves.slice(0, 100)" :key="one.listing" class="h-11 border-b border-rule-2">
                <td class="pl-3"><input type="checkbox" class="size-3.5 accent-pine align-middle" :checked="!left.has(one.listing)" :aria-label="`Apply to ${one.sku}`" @change="toggle(one.listing)" /></td>
                <td class="px-2"><RouterLink class="block max-w-72 truncate hover:underline" :title="one.title" :to="{ path: '/price', query: { view: 'listings', words: one.sku } }"><b>{{ one.title }}</b></RouterLink><span class="code text-soft">{{ one.sku }}</span></td>
                <td class="px-2 text-right">{{ money(one.now) }}</td><td class="px-2 text-right font-bold">{{ money(one.then) }}</td>
                <td class="px-2 text-right">{{ one.step > 0 ? '+' : '' }}{{ percent(one.step) }}</td>
                <td class="px-2 text-right whitespace-nowrap">{{ percent(one.margin_now) }} → {{ percent(one.margin_then) }}</td>
                <td class="px-3"><Tag :tone="one.set_by === 'step' || one.set_by === 'ceiling' ? 'waits' : 'plain'">{{ one.set_by.replace('_', ' ') }}</Tag></td>
              </tr>
              <tr v-for="one in held.slice(0, 40)" :key="one.listing" class="h-11 border-b border-rule-2"><td /><td class="px-2"><b class="block max-w-72 truncate" :title="one.title">{{ one.title }}</b><span class="code text-soft">{{ one.sku }}</span></td><td class="px-2 text-right">{{ money(one.now) }}</td><td class="px-2 text-right text-soft" colspan="3">the old price stands and waits for you</td><td class="px-3"><Tag tone="waits">{{ one.set_by.replace('_', ' ') }}</Tag></td></tr>
            </tbody>
          </table>
          <Empty v-else title="No price would move" :told="changed ? 'The draft changes nothing at today\'s costs.' : 'All prices are what the rules ask for.'" />
        </div>
        <p v-if="moves.length > 100" class="mt-2 text-soft">The hundred largest of {{ total.toLocaleString('en-GB') }}; all are applied.</p>
      </template>
    </section>
    <RuleForm v-if="editing !== null" :rule="editing >= 0 ? house[editing]! : null" @close="editing = null" @save="save" />
  </div>
</template>
