<script setup lang="ts">
/** A supplier's own sheet: say once which column is what, see what it gives, keep it. */
import { computed, reactive, ref, watch } from 'vue'
import { api, take, upload as send, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import { count, money, plural } from '@/parts/format'

const props = defineProps<{ supplier: Schema<'PartnerOut'> }>()
const emit = defineEmits<{ close: [] }>()
const NAMES: Record<string, string> = {
  item: 'Its number',
  title: 'Title',
  cost: 'Cost',
  stock: 'In stock',
  currency: 'Currency',
  gtin: 'Barcode',
  mpn: 'Maker’s number',
  brand: 'Maker',
  category: 'Category',
  options: 'Options',
  pack_size: 'Pack of',
  weight_g: 'Weight, g',
  least_price: 'Least price',
  lead_days: 'Days to make',
  origin: 'Sent from',
  link: 'Its page',
}
const folder = props.supplier.kind === 'folder'
const token = ref('')
const look = ref<Schema<'LookOut'> | null>(null)
const tried = ref<Schema<'TriedOut'> | null>(null)
const columns = reactive<Record<string, string>>({})
const decimal = ref('.')
const also = ref<string[]>([])
const whole = ref<boolean | null>(null)
const error = ref('')
const busy = ref(false)
const path = { number: props.supplier.id }

async function see(encoding = '', tab = '') {
  busy.value = true
  error.value = ''
  try {
    look.value = await take(api.GET('/api/v1/suppliers/{number}/sheet', { params: { path, query: { token: token.value, encoding, tab } } }))
    Object.keys(columns).forEach((name) => delete columns[name])
    Object.assign(columns, look.value.reading.columns)
    decimal.value = look.value.reading.decimal || '.'
    also.value = look.value.also
    whole.value = look.value.whole
  } catch (problem) {
    error.value = wordsOf(problem)
  } finally {
    busy.value = false
  }
}
if (folder) void see()
async function upload(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  error.value = ''
  busy.value = true
  try {
    token.value = (await send<{ token: string }>(`/api/v1/suppliers/${props.supplier.id}/sheet`, file)).token
    await see()
  } catch (problem) {
    error.value = wordsOf(problem)
  } finally {
    busy.value = false
  }
}
const body = computed(() => ({
  token: token.value,
  also: also.value,
  whole: whole.value,
  reading: {
    ...look.value!.reading,
    decimal: decimal.value,
    columns: Object.fromEntries(Object.entries(columns).filter(([, theirs]) => theirs)),
  },
}))
let turn = 0
watch([columns, decimal, also], async () => {
  if (!look.value) return
  const mine = ++turn
  try {
    const found = await take(api.POST('/api/v1/suppliers/{number}/sheet/try', { params: { path }, body: body.value }))
    if (mine === turn) {
      tried.value = found
      error.value = ''
    }
  } catch (problem) {
    if (mine === turn) {
      tried.value = null
      error.value = wordsOf(problem)
    }
  }
})
const sample = (theirs: string | undefined) => {
  const at = look.value && theirs ? (look.value.reading.header ?? []).indexOf(theirs) : -1
  return at < 0 ? '' : (look.value!.rows.map((row) => row[at]).find((cell) => cell?.trim()) ?? '')
}
const keep = async () => {
  if (await act(() => take(api.POST('/api/v1/suppliers/{number}/sheet/keep', { params: { path }, body: body.value })))) emit('close')
}
const MADE: Record<string, string> = { ';': 'semicolons', ',': 'commas', '\t': 'tabs', '|': 'upright strokes', '': 'a workbook' }
</script>

<template>
  <Modal
    open
    wide
    :title="`${supplier.name}’s sheet`"
    message="Say which of its columns is what. It is remembered; when the sheet’s make changes you are told, and nothing wrong is read."
    @close="emit('close')"
  >
    <label v-if="!folder" class="mb-3 block"
      ><span class="label">Its sheet, CSV or XLSX</span
      ><input type="file" accept=".csv,.xlsx,.xlsm,.txt,.tsv,.zip" class="field" @change="upload"
    /></label>
    <p v-if="busy && !look" class="text-soft">Reading the sheet…</p>
    <template v-if="look">
      <div class="mb-3 flex flex-wrap items-center gap-x-5 gap-y-2 text-soft">
        <span v-if="look.reading.separator"
          >columns by <b class="text-ink">{{ MADE[look.reading.separator] }}</b></span
        ><span v-else>a workbook, its first sheet</span>
        <label v-if="look.reading.separator" class="flex items-center gap-2"
          >letters<select
            class="field w-auto! py-0.5!"
            :value="look.reading.encoding"
            @change="see(($event.target as HTMLSelectElement).value)"
          >
            <option v-for="one in ['utf-8', 'cp1250', 'cp1252', 'iso8859-2', 'utf-16']" :key="one">{{ one }}</option>
          </select></label
        >
        <label class="flex items-center gap-2"
          >decimals after<select v-model="decimal" class="field w-auto! py-0.5!">
            <option value=".">a point</option>
            <option value=",">a comma</option>
          </select></label
        >
        <label v-if="look.tabs.length > 1" class="flex items-center gap-2"
          >sheet<select
            class="field w-auto! py-0.5!"
            :value="look.reading.tab"
            @change="see(look!.reading.encoding, ($event.target as HTMLSelectElement).value)"
          >
            <option v-for="one in look.tabs" :key="one">{{ one }}</option>
          </select></label
        >
        <span v-if="look.above">{{ plural(look.above, 'row') }} above the header left out</span>
        <Tag v-if="look.remembered" tone="good">as named before</Tag>
      </div>
      <p v-for="(names, ours) in look.doubts" :key="ours" class="mb-2 rounded bg-amber-wash px-3 py-1.5 text-amber-ink">
        {{ NAMES[ours] }} could also be {{ names.map((one) => `“${one}”`).join(' or ') }}; “{{ columns[ours] }}” is read.
      </p>
      <div class="grid grid-cols-2 gap-x-6 gap-y-1">
        <label v-for="field in look.fields" :key="field.name" class="grid grid-cols-[92px_150px_minmax(0,1fr)] items-center gap-2"
          ><span :class="field.needed ? 'font-semibold' : 'text-soft'">{{ NAMES[field.name] ?? field.name }}</span
          ><select v-model="columns[field.name]" class="field py-0.5!" :aria-invalid="field.needed && !columns[field.name]">
            <option :value="undefined"></option>
            <option v-for="name in (look.reading.header ?? []).filter(Boolean)" :key="name" :value="name">{{ name }}</option></select
          ><span class="truncate text-xs text-soft" :title="sample(columns[field.name])">{{ sample(columns[field.name]) }}</span></label
        >
      </div>
      <div v-if="tried" class="mt-4">
        <p class="mb-1">
          <b>{{ count(tried.good) }}</b> rows can be read<template v-if="tried.bad_count"
            >, <b class="text-brick">{{ count(tried.bad_count) }}</b> cannot<a
              v-if="token"
              class="ml-1 text-slate underline"
              :href="`api/v1/suppliers/${supplier.id}/sheet/bad/${token}.csv`"
              download
              >(as a sheet, with reason)</a
            ></template
          ><template v-for="notice in tried.notices" :key="notice">; {{ notice }}</template>
        </p>
        <table class="w-full">
          <thead>
            <tr class="h-7 text-2xs text-soft">
              <th>Number</th>
              <th>Title</th>
              <th class="text-right">Pack</th>
              <th class="text-right">Cost</th>
              <th class="text-right">In stock</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in tried.items.slice(0, 5)" :key="one.number" class="h-7 border-t border-rule-2">
              <td class="code">{{ one.number }}</td>
              <td class="max-w-72 truncate">
                {{ one.title }} <span class="text-soft">{{ one.options }}</span>
              </td>
              <td class="text-right">{{ one.pack_size }}</td>
              <td class="text-right">{{ money(one.cost) }}</td>
              <td class="text-right">{{ count(one.stock) }}</td>
            </tr>
          </tbody>
        </table>
        <label v-for="(n, unit) in tried.monies" :key="unit" class="mt-2 flex items-center gap-2"
          ><input v-model="also" type="checkbox" class="accent-pine" :value="unit" /><span
            ><b>{{ plural(n, 'row') }}</b> cost in {{ unit }}, not {{ supplier.currency }}: take them in {{ unit }}, at the rate of that
            currency</span
          ></label
        >
        <fieldset v-if="look.asks_whole" class="mt-3 flex flex-wrap items-center gap-x-5 gap-y-1">
          <legend class="sr-only">What its sheets list</legend>
          <label class="flex items-center gap-2"
            ><input v-model="whole" type="radio" class="accent-pine" :value="true" />It lists all that they sell: what is not in it is
            gone</label
          ><label class="flex items-center gap-2"
            ><input v-model="whole" type="radio" class="accent-pine" :value="false" />It lists some: the others stay as they are</label
          >
        </fieldset>
        <p v-for="bad in tried.bad.slice(0, 3)" :key="bad" class="mt-1 text-xs text-brick">{{ bad }}</p>
      </div>
    </template>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="main" :disabled="!tried?.good || (look?.asks_whole && whole === null)" @click="keep"
        >Save and import {{ tried?.good ? count(tried.good) : '' }} items</Btn
      ></template
    >
  </Modal>
</template>
