<script setup lang="ts">
import { reactive, ref } from 'vue'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { fromText, toText, type Rule } from './rules'

const props = defineProps<{ rule: Rule | null }>()
const emit = defineEmits<{ close: []; save: [rule: Rule | null] }>()
const start: Rule = props.rule ?? ({ scope: 'house', scope_key: '', band_from: 0, rule: 'margin', rule_value: 250_000 } as Rule)
const FIELDS = [
  ['min_margin', 'Least margin, %'],
  ['min_profit', 'Least profit, £'],
  ['ceiling', 'Never above, £'],
  ['endings', 'Endings, such as 49 99'],
  ['step', 'Largest step, %'],
  ['reserve', 'Returns reserve, %'],
] as const
const kind = ref(start.rule ?? 'margin')
const texts = reactive<Record<string, string>>(
  Object.fromEntries(
    (['band_from', 'rule_value', ...FIELDS.map(([name]) => name)] as const).map((name) => [name, toText(start, name as keyof Rule)]),
  ),
)
const wrong = reactive<Record<string, string>>({})
const HOW = [
  ['margin', 'keep a margin of, % after tax'],
  ['multiple', 'times landed cost'],
  ['add', 'landed cost plus, £'],
  ['return', 'earn on cost, %'],
] as const

function save() {
  const out: Record<string, unknown> = { ...start, rule: kind.value }
  for (const name of Object.keys(texts)) {
    delete wrong[name]
    const value = fromText(kind.value, name as keyof Rule, texts[name] ?? '')
    if (value === undefined) wrong[name] = 'is not a number that fits here'
    else out[name] = value ?? (name === 'band_from' ? 0 : null)
  }
  if (out.rule_value === null) wrong.rule_value = 'is needed'
  if (!Object.keys(wrong).length) emit('save', out as unknown as Rule)
}
</script>

<template>
  <Modal
    open
    title="Rule for a band of landed cost"
    told="It becomes a draft; prices change only when you apply it."
    @close="emit('close')"
  >
    <form class="grid grid-cols-2 gap-3" @submit.prevent="save">
      <label
        ><span class="label">From a landed cost of, £</span
        ><input v-model="texts.band_from" class="field" inputmode="decimal" maxlength="12" :aria-invalid="!!wrong.band_from" /></label
      ><span />
      <label
        ><span class="label">How</span
        ><select v-model="kind" class="field">
          <option v-for="[key, told] in HOW" :key="key" :value="key">{{ told }}</option>
        </select></label
      >
      <label
        ><span class="label">How much</span
        ><input v-model="texts.rule_value" class="field" inputmode="decimal" maxlength="12" :aria-invalid="!!wrong.rule_value" /><span
          v-if="wrong.rule_value"
          role="alert"
          class="text-xs text-brick"
          >{{ wrong.rule_value }}</span
        ></label
      >
      <label v-for="[name, label] in FIELDS" :key="name"
        ><span class="label">{{ label }}</span
        ><input v-model="texts[name]" class="field" maxlength="40" :aria-invalid="!!wrong[name]" /><span
          v-if="wrong[name]"
          role="alert"
          class="text-xs text-brick"
          >{{ wrong[name] }}</span
        ></label
      >
      <button type="submit" class="hidden" />
    </form>
    <template #acts
      ><Btn v-if="rule" kind="loss" class="mr-auto" @click="emit('save', null)">Remove this band</Btn
      ><Btn @click="emit('close')">Leave it</Btn><Btn kind="main" @click="save">Keep as a draft</Btn></template
    >
  </Modal>
</template>
