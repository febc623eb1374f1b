<script setup lang="ts">
import { watchDebounced } from '@vueuse/core'
import { useQuery } from '@tanstack/vue-query'
import { computed, onMounted, reactive, ref, watch } from 'vue'
import Btn from '@/parts/Btn.vue'
import { useKeys } from '@/app/keys'
import { fromText, moneyOf, toText, type Rule } from './rules'
import { rulesIn, signOf } from '@/parts/home'
import { scopesQuery } from './queries'

const props = defineProps<{ rule: Rule | null; exception: boolean }>()
const emit = defineEmits<{ close: []; save: [rule: Rule | null]; try: [rule: Rule | null] }>()
const start: Rule =
  props.rule ??
  ((props.exception
    ? { scope: 'supplier', scope_key: '', band_from: 0 }
    : { scope: 'house', scope_key: '', band_from: 0, rule: 'margin', rule_value: 250_000 }) as Rule)
const { data: scopes } = useQuery({ ...scopesQuery(), meta: { live: false } })
const scope = ref(start.scope ?? 'house')
const key = ref(start.scope_key ?? '')
const names = computed(() => (scope.value === 'sku' || scope.value === 'house' ? [] : (scopes.value?.[scope.value as 'store'] ?? [])))
watch(scope, () => (key.value = ''))
/** A rule keeps the money that it was made in; a new one of a store is in that store's. */
const currency = computed(
  () =>
    start.currency ||
    (scope.value === 'store' ? scopes.value?.store.find((one) => one.code === key.value)?.currency : '') ||
    (props.rule ? moneyOf(props.rule) : rulesIn.value),
)
const sign = computed(() => signOf(currency.value))
const FIELDS = [
  ['min_margin', 'Least margin, %'],
  ['min_profit', 'Least profit, '],
  ['least_price', 'Never advertised under, '],
  ['ceiling', 'Never above, '],
  ['endings', 'Endings, such as 49 99'],
  ['step', 'Largest step, %'],
  ['compare_at', 'Compare-at price, so much higher, %'],
  ['reserve', 'Returns reserve, % (empty = as came back)'],
] as const
const kind = ref(start.rule ?? (props.exception ? '' : 'margin'))
const texts = reactive<Record<string, string>>(
  Object.fromEntries(
    (['band_from', 'rule_value', ...FIELDS.map(([name]) => name)] as const).map((name) => [name, toText(start, name as keyof Rule)]),
  ),
)
const wrong = reactive<Record<string, string>>({})
const HOW = [
  ['margin', 'a margin of, % after tax'],
  ['multiple', 'times landed cost'],
  ['add', 'landed cost plus, '],
  ['return', 'earn on cost, %'],
] as const
/** A field that is money says which. */
const called = (label: string) => (label.endsWith(', ') ? label + sign.value : label)

/** What is typed as a rule; what cannot be is told in `wrong`, and then there is none. */
function made(message: Record<string, string>): Rule | null {
  const whose = { scope: scope.value, scope_key: key.value.trim(), currency: currency.value }
  const out: Record<string, unknown> = { ...start, ...whose, rule: kind.value || null }
  for (const name of Object.keys(texts)) {
    const value = fromText(kind.value, name as keyof Rule, texts[name] ?? '', currency.value)
    if (value === undefined) message[name] = 'is not a number that fits here'
    else out[name] = value ?? (name === 'band_from' ? 0 : null)
  }
  if (!kind.value) out.rule_value = null
  else if (out.rule_value === null) message.rule_value = 'is needed'
  if (props.exception && !out.scope_key) message.scope_key = 'is needed'
  return Object.keys(message).length ? null : (out as unknown as Rule)
}
function save() {
  for (const name of Object.keys(wrong)) delete wrong[name]
  const rule = made(wrong)
  if (rule) emit('save', rule)
}
// While it is typed the picture beside it answers; nothing is kept by that.
watchDebounced([texts, kind, scope, key], () => emit('try', made({})), { debounce: 60 })
useKeys('Rule', [{ key: 'escape', message: 'leave the rule', run: () => emit('close') }])
const first = ref<HTMLElement | null>(null)
onMounted(() => first.value?.querySelector<HTMLElement>('select, input')?.focus())
</script>

<template>
  <section ref="first" class="p-4" aria-label="The rule in hand">
    <h1>{{ exception ? 'An exception' : 'A band of landed cost' }}</h1>
    <p class="mt-1 mb-3 text-xs text-soft">
      {{
        exception
          ? 'Only what you fill in is said otherwise; the rest is inherited. What it does is shown while you type; it counts once it is applied.'
          : 'What it does is shown while you type; it counts once it is applied.'
      }}
    </p>
    <form class="grid grid-cols-2 gap-3" @submit.prevent="save">
      <template v-if="exception">
        <label
          ><span class="label">Whose</span
          ><select v-model="scope" class="field">
            <option value="supplier">a supplier's items</option>
            <option value="category">a category</option>
            <option value="store">a store</option>
            <option value="sku">one SKU</option>
          </select></label
        >
        <label
          ><span class="label">Which</span
          ><select v-if="scope !== 'sku'" v-model="key" class="field" :aria-invalid="!!wrong.scope_key">
            <option value="" disabled>choose</option>
            <option v-for="{ code, name } in names" :key="code" :value="code">{{ name }}</option></select
          ><input v-else v-model="key" class="field code" maxlength="100" placeholder="its number" :aria-invalid="!!wrong.scope_key" /><span
            v-if="wrong.scope_key"
            role="alert"
            class="text-xs text-brick"
            >{{ wrong.scope_key }}</span
          ></label
        >
      </template>
      <label
        ><span class="label">From a landed cost of, {{ sign }}</span
        ><input v-model="texts.band_from" class="field" inputmode="decimal" maxlength="12" :aria-invalid="!!wrong.band_from" /></label
      ><span />
      <label
        ><span class="label">How</span
        ><select v-model="kind" class="field">
          <option v-if="exception" value="">as inherited</option>
          <option v-for="[name, message] in HOW" :key="name" :value="name">{{ called(message) }}</option>
        </select></label
      >
      <label
        ><span class="label">How much</span
        ><input
          v-model="texts.rule_value"
          class="field"
          :disabled="!kind"
          inputmode="decimal"
          maxlength="12"
          :aria-invalid="!!wrong.rule_value"
        /><span v-if="wrong.rule_value" role="alert" class="text-xs text-brick">{{ wrong.rule_value }}</span></label
      >
      <label v-for="[name, label] in FIELDS" :key="name"
        ><span class="label">{{ called(label) }}</span
        ><input v-model="texts[name]" class="field" maxlength="40" :aria-invalid="!!wrong[name]" /><span
          v-if="wrong[name]"
          role="alert"
          class="text-xs text-brick"
          >{{ wrong[name] }}</span
        ></label
      >
      <button type="submit" class="hidden" />
    </form>
    <p class="mt-4 flex flex-wrap gap-2">
      <Btn kind="main" @click="save">Save as a draft</Btn><Btn @click="emit('close')">Cancel</Btn
      ><Btn v-if="rule" kind="loss" class="ml-auto" @click="emit('save', null)">{{
        exception ? 'Remove this exception' : 'Remove this band'
      }}</Btn>
    </p>
  </section>
</template>
