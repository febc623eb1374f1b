<script setup lang="ts">
/** Which of a sheet's columns are ours: what was guessed, what a person says, and ten rows as they would be read. */
import { watchDebounced } from '@vueuse/core'
import { computed, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { wordsOf } from '@/app/messages'
import { plural } from './format'

const props = defineProps<{ sheet: string; seen: Schema<'SheetSeen'> }>()
const emit = defineEmits<{ now: [seen: Schema<'SheetSeen'>] }>()
const ALWAYS = '='
const LABELS: Record<string, string> = {
  gtin: 'barcode',
  mpn: 'maker’s number',
  weight_g: 'weight',
  order_no: 'order number',
  line_no: 'line number',
  address_1: 'address',
  address_2: 'address, second line',
}
const called = (name: string) => LABELS[name] ?? name.replaceAll('_', ' ')
const columns = reactive<Record<string, string>>({ ...props.seen.columns })
const tab = ref(props.seen.tab)
const encoding = ref(props.seen.encoding)
const error = ref('')
const fields = computed(() => [...props.seen.needed, ...props.seen.optional])
const named = computed(() => fields.value.filter((name) => columns[name]))
const unused = computed(() => props.seen.header.filter((name) => !Object.values(columns).includes(name)))
let turn = 0
async function again(fresh: boolean) {
  const mine = ++turn
  try {
    const body = { columns: fresh ? {} : { ...columns }, tab: tab.value, encoding: encoding.value }
    for (const name of Object.keys(body.columns)) if (!body.columns[name]) delete body.columns[name]
    const path = { name: props.sheet, token: props.seen.token }
    const found = await take(api.POST('/api/v1/sheets/{name}/look/{token}', { params: { path }, body }))
    if (mine !== turn) return
    error.value = ''
    if (fresh) {
      Object.keys(columns).forEach((name) => delete columns[name])
      Object.assign(columns, found.columns)
    }
    emit('now', found)
  } catch (problem) {
    if (mine === turn) error.value = wordsOf(problem)
  }
}
watchDebounced(columns, () => void again(false), { debounce: 250 })
const choose = (name: string, value: string) => (columns[name] = value === ALWAYS ? `${ALWAYS} ` : value)
</script>

<template>
  <div>
    <p class="mb-2 flex flex-wrap items-center gap-x-5 gap-y-1 text-soft">
      <label v-if="seen.tabs.length > 1" class="flex items-center gap-2"
        >sheet<select v-model="tab" class="field w-auto! py-0.5!" @change="again(true)">
          <option v-for="one in seen.tabs" :key="one" :value="one">{{ one }}</option>
        </select></label
      >
      <label v-if="seen.encoding" class="flex items-center gap-2"
        >letters<select v-model="encoding" class="field w-auto! py-0.5!" @change="again(true)">
          <option v-for="one in ['utf-8', 'cp1250', 'cp1252', 'iso8859-2', 'utf-16']" :key="one">{{ one }}</option>
        </select></label
      >
      <span v-if="seen.above">{{ plural(seen.above, 'row') }} above the header {{ seen.above === 1 ? 'is' : 'are' }} left out</span>
    </p>
    <p v-if="seen.missing.length" class="mb-2 rounded bg-amber-wash px-3 py-1.5 text-amber-ink">
      Say which column is {{ seen.missing.map(called).join(', ') }}, or write what is the same in every row.
    </p>
    <p v-for="(names, ours) in seen.doubts" :key="ours" class="mb-2 rounded bg-amber-wash px-3 py-1.5 text-amber-ink">
      {{ called(String(ours)) }} could be {{ names.map((one) => `“${one}”`).join(' or ') }}; “{{ columns[ours] }}” is read.
    </p>
    <div class="grid max-h-64 grid-cols-2 gap-x-6 gap-y-1 overflow-auto pr-1">
      <label v-for="name in fields" :key="name" class="grid grid-cols-[130px_minmax(0,1fr)] items-center gap-2"
        ><span class="truncate" :class="seen.needed.includes(name) ? 'font-semibold' : 'text-soft'" :title="called(name)">{{
          called(name)
        }}</span
        ><span class="flex gap-1"
          ><select
            class="field min-w-0 py-0.5!"
            :value="columns[name]?.startsWith(ALWAYS) ? ALWAYS : (columns[name] ?? '')"
            :aria-label="called(name)"
            :aria-invalid="seen.missing.includes(name)"
            @change="choose(name, ($event.target as HTMLSelectElement).value)"
          >
            <option value=""></option>
            <option v-for="one in seen.header" :key="one" :value="one">{{ one }}</option>
            <option :value="ALWAYS">the same in every row:</option></select
          ><input
            v-if="columns[name]?.startsWith(ALWAYS)"
            class="field min-w-0 py-0.5!"
            :aria-label="`${called(name)} in every row`"
            :value="columns[name]!.slice(1).trim()"
            @input="columns[name] = `${ALWAYS} ${($event.target as HTMLInputElement).value}`" /></span
      ></label>
    </div>
    <p v-if="unused.length" class="mt-2 text-xs text-soft">Not used: {{ unused.join(', ') }}</p>
    <p v-if="error" role="alert" class="mt-2 rounded bg-brick-wash px-3 py-1.5 text-brick">{{ error }}</p>
    <h2 class="mt-3">As its first rows would be read</h2>
    <div class="mt-1 max-h-60 overflow-auto rounded border border-rule">
      <table class="w-full text-xs">
        <thead class="sticky top-0 bg-shade">
          <tr>
            <th v-for="name in named" :key="name" class="px-2 py-1 text-left font-semibold whitespace-nowrap">{{ called(name) }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, at) in seen.rows" :key="at" class="border-t border-rule-2">
            <td v-for="name in named" :key="name" class="max-w-56 truncate px-2 py-1" :title="row[name]">{{ row[name] }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>
