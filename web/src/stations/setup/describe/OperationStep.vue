<script setup lang="ts">
/** One operation: its call, the live answer, and where in it our fields are. A write is shown as the call that it would be. */
import Delimiter from './Delimiter.vue'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Tag from '@/parts/Tag.vue'
import { plural } from '@/parts/format'
import CallForm from './CallForm.vue'
import FieldRows from './FieldRows.vue'
import { useDraft, type OperationShape } from './draft'
import type { Operation, Paging } from './description'

const props = defineProps<{ shape: OperationShape; label: string }>()
const { number, data, change, kept, faultsOf } = useDraft()
const said = computed(() => data.value.operations[props.shape.name])
const operation = computed(() => said.value ?? {})
function put(part: Partial<Operation>) {
  data.value.operations[props.shape.name] = { ...operation.value, ...part }
  change()
}
const begin = () => put(props.shape.writes ? { call: { method: 'POST' } } : { read: 'json' })
function drop() {
  delete data.value.operations[props.shape.name]
  data.value.cannot_find = (data.value.cannot_find ?? []).filter((one) => one !== props.shape.name)
  change()
}
const cannotFind = computed({
  get: () => (data.value.cannot_find ?? []).includes(props.shape.name),
  set: (on) => {
    const others = (data.value.cannot_find ?? []).filter((one) => one !== props.shape.name)
    data.value.cannot_find = on ? [...others, props.shape.name] : others
    change()
  },
})
const faults = computed(() => faultsOf(`operations.${props.shape.name}`))
const answer = ref<Schema<'AskedOut'> | null>(null)
const call = ref<Schema<'ShownCallOut'> | null>(null)
const error = ref('')
const busy = ref(false)
const given = ref<Record<string, string>>({})
const PAGED = ['page', 'offset', 'cursor', 'size']
const asks = computed(() =>
  props.shape.writes
    ? []
    : Object.keys(props.shape.given).filter(
        (one) => !PAGED.includes(one) && one !== 'reference' && !(one === 'number' && 'numbers' in props.shape.given),
      ),
)
const askable = computed(() => Object.fromEntries(Object.entries(given.value).filter(([, text]) => text.trim())))
const path = { number }
async function run(does: () => Promise<void>) {
  busy.value = true
  error.value = ''
  try {
    if (await kept()) await does()
  } catch (problem) {
    error.value = wordsOf(problem)
  } finally {
    busy.value = false
  }
}
const ask = () =>
  run(async () => {
    const body = { operation: props.shape.name, given: askable.value }
    answer.value = await take(api.POST('/api/v1/setup/descriptions/{number}/ask', { params: { path }, body }))
    at.value = 0
    if (!answer.value.rows.length && answer.value.sample) await propose(answer.value.sample)
  })
const show = () =>
  run(async () => {
    call.value = await take(
      api.POST('/api/v1/setup/descriptions/{number}/call', { params: { path }, body: { operation: props.shape.name, given: {} } }),
    )
  })
const example = ref('')
/** Places that are proposed fill only what nobody has said yet, nor is about to say: not the one that somebody stands in. */
async function propose(text: string) {
  const found = await take(
    api.POST('/api/v1/setup/descriptions/{number}/propose', { params: { path }, body: { operation: props.shape.name, example: text } }),
  )
  const part = found.operation as Operation
  data.value.namespaces = { ...found.namespaces, ...data.value.namespaces }
  const theirs = (document.activeElement as HTMLElement | null)?.dataset.place
  const proposed = (fields: Operation['fields']) => Object.fromEntries(Object.entries(fields ?? {}).filter(([name]) => name !== theirs))
  put({
    ...part,
    fields: { ...proposed(part.fields), ...operation.value.fields },
    whole: { ...proposed(part.whole), ...operation.value.whole },
    rows: operation.value.rows || (theirs === 'its rows' ? undefined : part.rows),
    paging: operation.value.paging ?? part.paging,
  })
  if (answer.value && (await kept())) {
    const body = { operation: props.shape.name, given: askable.value }
    answer.value = await take(api.POST('/api/v1/setup/descriptions/{number}/ask', { params: { path }, body }))
  }
}
const at = ref(0)
const cells = computed(() => answer.value?.rows[at.value])
/** Fields that cannot be read in some of the rows, with how many. */
const odd = computed(() => {
  const count: Record<string, number> = {}
  for (const row of answer.value?.rows ?? [])
    for (const [name, cell] of Object.entries(row)) {
      const needed = props.shape.fields.find((one) => one.name === name)?.needed
      if (cell.fault && (needed || !cell.fault.includes('does not say'))) count[name] = (count[name] ?? 0) + 1
    }
  return count
})
const nextOdd = () => {
  const rows = answer.value?.rows ?? []
  const bad = (n: number) => Object.keys(odd.value).some((name) => rows[n]?.[name]?.fault)
  const found = rows.findIndex((_, n) => n > at.value && bad(n))
  at.value = found >= 0 ? found : rows.findIndex((_, n) => bad(n))
}
const paging = computed(() => operation.value.paging)
const putPaging = (part: Partial<Paging>) => put({ paging: { by: 'page', ...paging.value, ...part } })
const typed = (event: Event) => (event.target as HTMLInputElement).value
const BY: Record<string, string> = {
  '': 'all at once',
  page: 'by the number of a page',
  offset: 'from a row on',
  cursor: 'by a cursor in the answer',
  since: 'after where the last reading ended',
  link: 'by a link in a header',
}
const PLACES: Record<string, [keyof Paging, string][]> = {
  page: [
    ['size', 'Rows a page'],
    ['first', 'First page (1)'],
    ['pages', 'How many pages'],
    ['total', 'How many rows'],
  ],
  offset: [
    ['size', 'Rows a portion'],
    ['total', 'How many rows'],
  ],
  cursor: [
    ['next', 'Where the next cursor is'],
    ['more', 'Whether there is more'],
    ['first', 'The first cursor'],
    ['size', 'Rows a portion'],
  ],
  since: [
    ['next', 'Where the next cursor is'],
    ['more', 'Whether there is more'],
    ['first', 'The first cursor'],
    ['size', 'Rows a portion'],
  ],
  link: [],
}
</script>

<template>
  <div>
    <div class="flex flex-wrap items-center gap-2">
      <h2>{{ label }}</h2>
      <span class="text-soft">{{ shape.about }}</span>
      <Tag v-if="shape.writes" tone="info">changes something there</Tag>
      <Btn v-if="said" small class="ml-auto" @click="drop">Leave this out</Btn>
    </div>
    <div v-if="!said" class="mt-3">
      <p class="text-soft">Nothing is said of this yet. Leave it so where the partner does not offer it.</p>
      <Btn class="mt-2" @click="begin">Describe this</Btn>
    </div>
    <template v-else>
      <CallForm
        class="mt-3"
        :model-value="operation.call"
        :given="shape.given"
        :writes="shape.writes"
        @update:model-value="(one) => put({ call: one })"
      />
      <div class="mt-3 flex flex-wrap items-end gap-3">
        <label v-for="one in asks" :key="one"
          ><span class="label">Try it with: {{ shape.given[one] }}</span
          ><input v-model="given[one]" class="field code w-48!" maxlength="200"
        /></label>
        <Btn v-if="!shape.writes" kind="main" :disabled="busy" @click="ask">{{ busy ? 'Asking…' : 'Ask it now' }}</Btn>
        <Btn v-else :disabled="busy" @click="show">Show the call</Btn>
        <span v-if="shape.writes" class="text-soft">Nothing is sent. Writes are tried with the certificate, on one chosen thing.</span>
      </div>
      <label v-if="shape.asked_after" class="mt-2 flex items-center gap-2"
        ><input v-model="cannotFind" type="checkbox" class="accent-pine" />nobody there can be asked afterwards whether it was done: after a
        lost answer you are asked what you find there</label
      >
      <p v-if="error" role="alert" class="mt-2 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
      <pre v-if="call" tabindex="0" class="mt-2 max-h-72 overflow-auto rounded bg-shade p-3 text-xs" aria-label="The call as it would be"
        >{{ call.method }} {{ call.address }}
{{
          Object.entries(call.headers)
            .map(([name, text]) => `${name}: ${text}`)
            .join('\n')
        }}

{{ call.body }}</pre>
      <template v-if="answer">
        <p class="mt-2 text-soft">
          <span class="code">{{ answer.call.method }} {{ answer.call.address }}</span> answered {{ plural(answer.size, 'byte') }}.
        </p>
        <p v-if="answer.error" role="alert" class="mt-1 rounded bg-brick-wash px-3 py-2 text-brick">{{ answer.error }}</p>
        <details v-if="answer.sample" class="mt-1" :open="!answer.rows.length">
          <summary class="cursor-pointer font-semibold text-slate">Its answer</summary>
          <pre tabindex="0" class="mt-1 max-h-72 overflow-auto rounded bg-shade p-3 text-xs">{{ answer.sample }}</pre>
        </details>
      </template>
      <h3 class="label mt-4">Where in the answer our fields are</h3>
      <div class="mt-1 flex flex-wrap items-end gap-3">
        <label
          ><span class="label">The answer is</span
          ><select class="field" :value="operation.read ?? 'json'" @change="put({ read: typed($event) })">
            <option value="json">JSON</option>
            <option value="xml">XML</option>
            <option value="csv">CSV</option>
          </select></label
        >
        <Delimiter
          v-if="operation.read === 'csv'"
          label="Parted by"
          :model-value="operation.delimiter ?? ','"
          @update:model-value="(delimiter) => put({ delimiter })"
        />
        <label v-else class="min-w-56 flex-1"
          ><span class="label"
            >{{ shape.many ? 'Its rows are at' : 'It is within' }}{{ operation.read === 'xml' ? ' (XPath)' : ' (JMESPath)' }}; empty = the
            whole answer</span
          ><input class="field code" data-place="its rows" :value="operation.rows" maxlength="2000" @input="put({ rows: typed($event) })"
        /></label>
        <label v-if="shape.paged"
          ><span class="label">It comes</span
          ><select
            class="field"
            :value="paging?.by ?? ''"
            @change="typed($event) ? putPaging({ by: typed($event) }) : put({ paging: undefined })"
          >
            <option v-for="(words, key) in BY" :key="key" :value="key">{{ words }}</option>
          </select></label
        >
        <label v-if="'references' in shape.given || 'numbers' in shape.given"
          ><span class="label">So many a call (empty = one)</span
          ><input class="field w-28!" inputmode="numeric" :value="operation.most" @input="put({ most: typed($event) })"
        /></label>
      </div>
      <div v-if="paging" class="mt-2 flex flex-wrap gap-3">
        <label v-for="[key, words] in PLACES[paging.by] ?? []" :key="key"
          ><span class="label">{{ words }}</span
          ><input class="field code w-48!" :value="paging[key]" maxlength="300" @input="putPaging({ [key]: typed($event) })"
        /></label>
      </div>
      <p v-for="one in faults" :key="one.place + one.message" class="mt-1.5 text-xs text-brick">
        <span class="code">{{ one.place.replace(`operations.${shape.name}.`, '') }}</span>: {{ one.message }}
      </p>
      <div v-if="answer?.rows.length" class="mt-2 flex flex-wrap items-center gap-2">
        <Btn small :disabled="!at" @click="at -= 1">Row before</Btn
        ><Btn small :disabled="at >= answer.rows.length - 1" @click="at += 1">Next row</Btn>
        <span>row {{ at + 1 }} of {{ answer.rows.length }}{{ answer.more ? ', of the first hundred' : '' }}</span>
        <template v-if="Object.keys(odd).length"
          ><Btn small @click="nextOdd">Next odd row</Btn
          ><span class="text-brick"
            >cannot be read:
            {{
              Object.entries(odd)
                .map(([name, n]) => `${name} in ${plural(n, 'row')}`)
                .join(', ')
            }}</span
          ></template
        ><span v-else class="font-semibold text-pine">all of them can be read</span>
      </div>
      <FieldRows
        v-if="shape.fields.length"
        class="mt-2"
        :shapes="shape.fields"
        :model-value="operation.fields"
        :cells="cells"
        @update:model-value="(fields) => put({ fields })"
      />
      <template v-if="shape.whole.length">
        <h3 class="label mt-3">Said once for the whole answer</h3>
        <FieldRows
          :shapes="shape.whole"
          :model-value="operation.whole"
          :cells="answer?.whole"
          @update:model-value="(whole) => put({ whole })"
        />
      </template>
      <details class="mt-4">
        <summary class="cursor-pointer font-semibold text-slate">Fill the places from an example in the partner’s paper</summary>
        <textarea
          v-model="example"
          class="field code mt-1 h-32"
          spellcheck="false"
          aria-label="An example of the answer"
          placeholder="Paste an answer here"
        />
        <Btn small class="mt-1" :disabled="busy || !example.trim()" @click="run(() => propose(example))">Propose places</Btn>
      </details>
    </template>
  </div>
</template>
