<script setup lang="ts">
/** What comes from a server or by mail for one partner, or goes there: said once, looked at beside what lies there now. */
import { computed, reactive, ref, watch } from 'vue'
import { ApiError, api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import When from '@/parts/When.vue'
import { count, plural } from '@/parts/format'

const props = defineProps<{ files: Schema<'FilesOut'>; rule?: Schema<'FileRuleOut'> }>()
const emit = defineEmits<{ close: [] }>()
const first = props.files.partners[0]
const form = reactive({
  partner: props.rule ? `${props.rule.owner}:${props.rule.owner_id}` : first ? `${first.owner}:${first.id}` : '',
  sheet: props.rule ? `${props.rule.is_out ? 'out' : 'in'}:${props.rule.what}` : '',
  server: props.rule?.server ?? props.files.servers[0]?.id ?? 0,
  pattern: props.rule?.pattern ?? '',
  newest: props.rule?.newest ?? true,
  done_folder: props.rule?.done_folder ?? '',
  marker: props.rule?.marker ?? '',
  each: props.rule?.each ?? false,
  minutes: String(props.rule?.minutes ?? 15),
  leave_old: false,
})
const moves = ref(!!props.rule?.done_folder)
const marked = ref(!!props.rule?.marker)
const partner = computed(() => props.files.partners.find((one) => `${one.owner}:${one.id}` === form.partner))
const keyOf = (one: Schema<'SheetOfPartner'>) => `${one.is_out ? 'out' : 'in'}:${one.what}`
const sheet = computed(() => partner.value?.sheets.find((one) => keyOf(one) === form.sheet))
watch(
  partner,
  (now) => {
    if (now && !sheet.value) form.sheet = keyOf(now.sheets[0]!)
  },
  { immediate: true },
)
// Of sheets that each say something new none may be passed over; one that says all anew counts alone.
watch(
  sheet,
  (now) => {
    if (!props.rule && now) form.newest = ['catalogue', 'stock', 'listings'].includes(now.what)
  },
  { immediate: true },
)
const isOut = computed(() => !!sheet.value?.is_out)
const server = computed(() => props.files.servers.find((one) => one.id === form.server))
const places = computed(() => [
  ...props.files.servers.filter((one) => !isOut.value || one.writes),
  ...(sheet.value?.by_mail && props.files.mail ? [{ id: 0, name: 'by mail, as an attached file', writes: false }] : []),
])
watch(places, (now) => {
  if (!now.some((one) => one.id === form.server)) form.server = now[0]?.id ?? 0
})
const byMail = computed(() => !form.server)
const HINTS: Record<string, string> = { purchases: 'orders/{year}{month}{day}-{number}.csv', changes: 'changes-{number}.csv' }
const hint = computed(() =>
  isOut.value
    ? (HINTS[sheet.value!.what] ?? `${sheet.value!.what}-{number}.csv`)
    : `${sheet.value?.what ?? 'stock'}-{year}{month}{day}*.csv`,
)
const error = ref('')
const wrong = ref<Record<string, string>>({})
const busy = ref(false)
const seen = ref<Schema<'FilesSeenOut'> | null>(null)
watch(
  () => [form.pattern, form.server, form.marker, marked.value],
  () => (seen.value = null),
)
async function run(does: () => Promise<void>) {
  busy.value = true
  error.value = ''
  wrong.value = {}
  try {
    await does()
  } catch (problem) {
    error.value = wordsOf(problem)
    wrong.value = problem instanceof ApiError ? problem.fields : {}
  } finally {
    busy.value = false
  }
}
const marker = computed(() => (marked.value ? form.marker : ''))
const look = () =>
  run(async () => {
    const body = { server: form.server, pattern: form.pattern, marker: marker.value }
    seen.value = await take(api.POST('/api/v1/setup/files/look', { body }))
  })
const keep = () =>
  run(async () => {
    const body = {
      server: form.server,
      owner: partner.value!.owner,
      owner_id: partner.value!.id,
      what: sheet.value!.what,
      is_out: isOut.value,
      pattern: form.pattern,
      newest: form.newest,
      done_folder: moves.value && !isOut.value ? form.done_folder : '',
      marker: isOut.value ? '' : marker.value,
      each: isOut.value && form.each,
      minutes: Number(form.minutes) || 15,
      leave_old: form.leave_old,
      version: props.rule?.version ?? 0,
    }
    const done = await take(
      props.rule
        ? api.PUT('/api/v1/setup/files/rules/{number}', { params: { path: { number: props.rule.id } }, body })
        : api.POST('/api/v1/setup/files/rules', { body }),
    )
    void act(() => Promise.resolve(done))
    emit('close')
  })
</script>

<template>
  <Modal open wide :title="rule ? `${rule.partner}: ${rule.called}` : 'Sheets that travel by themselves'" @close="emit('close')">
    <form id="file-rule" class="grid grid-cols-2 gap-3.5" @submit.prevent="keep">
      <label
        ><span class="label">Whose</span
        ><select v-model="form.partner" class="field" :disabled="!!rule" :aria-invalid="!!wrong.owner">
          <option v-for="one in files.partners" :key="`${one.owner}:${one.id}`" :value="`${one.owner}:${one.id}`">{{ one.name }}</option>
        </select></label
      >
      <label
        ><span class="label">Which sheet</span
        ><select v-model="form.sheet" class="field" :disabled="!!rule" :aria-invalid="!!wrong.what">
          <option v-for="one in partner?.sheets ?? []" :key="keyOf(one)" :value="keyOf(one)">
            {{ one.called }}, {{ one.is_out ? 'goes out' : 'comes in' }}
          </option>
        </select></label
      >
      <label
        ><span class="label">{{ isOut ? 'Goes to' : 'Comes from' }}</span
        ><select v-model.number="form.server" class="field" :aria-invalid="!!wrong.server">
          <option v-for="one in places" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select></label
      >
      <label
        ><span class="label">{{ isOut ? 'Files are made at most' : 'It is looked there' }} every so many minutes</span
        ><input v-model="form.minutes" class="field w-28!" inputmode="numeric" maxlength="5" :disabled="byMail"
      /></label>
      <label class="col-span-2"
        ><span class="label">{{ isOut ? 'What our file is called' : 'What the file is called' }}, with its folder</span
        ><input
          v-model="form.pattern"
          class="field code"
          required
          maxlength="200"
          spellcheck="false"
          :placeholder="hint"
          :aria-invalid="!!wrong.pattern"
      /></label>
      <p class="col-span-2 -mt-2 text-xs text-soft">
        <template v-if="isOut"
          >Every file needs a name of its own: <code>{number}</code> is its number here<template v-if="form.each"
            >, <code>{purchase}</code> the purchase order; one that ends with <code>.xml</code> is a UBL document</template
          >.</template
        ><template v-else><code>*</code> stands for any letters, <code>?</code> for one.</template> <code>{year}</code> <code>{month}</code>
        <code>{day}</code> <code>{hour}</code> <code>{minute}</code> stand for a date and time in it.
      </p>
      <template v-if="!isOut && !byMail">
        <div class="col-span-2">
          <Btn small :disabled="busy || !form.pattern.trim()" @click="look">{{ busy ? 'Looking…' : 'Look there now' }}</Btn>
          <div v-if="seen" class="mt-2 rounded bg-shade px-3 py-2" role="status">
            <p>
              <b>{{ seen.count ? `${plural(seen.count, 'file')} meant` : 'Nothing there is meant by this' }}</b>
              <span class="text-soft"> in {{ seen.folders.join(' and ') }}</span>
            </p>
            <ul v-if="seen.count" class="mt-1 max-h-32 overflow-auto">
              <li v-for="(one, n) in seen.found" :key="one.path" class="flex gap-3 text-xs">
                <span class="code min-w-0 flex-1 truncate" :title="one.path">{{ one.path }}</span><span
                  v-if="!n && form.newest"
                  class="font-semibold text-pine"
                  >the newest</span
                ><span class="w-24 text-right text-soft">{{ count(one.size) }} bytes</span
                ><span class="w-28 text-right text-soft"><When v-if="one.changed" :at="one.changed" clock /></span>
              </li>
            </ul>
          </div>
        </div>
        <fieldset>
          <legend class="label">Of several new ones</legend>
          <label class="flex min-h-7 items-center gap-2"
            ><input v-model="form.newest" type="radio" class="accent-pine" name="newest" :value="true" />only the newest counts</label
          ><label class="flex min-h-7 items-center gap-2"
            ><input v-model="form.newest" type="radio" class="accent-pine" name="newest" :value="false" />each is taken, the oldest
            first</label
          >
        </fieldset>
        <fieldset>
          <legend class="label">A file is whole</legend>
          <label class="flex min-h-7 items-center gap-2"
            ><input v-model="marked" type="radio" class="accent-pine" name="whole" :value="false" />once its size stands still</label
          ><label class="flex min-h-7 items-center gap-2"
            ><input v-model="marked" type="radio" class="accent-pine" name="whole" :value="true" />once another lies beside it, its name and
            <input
              v-if="marked"
              v-model="form.marker"
              class="field code w-20! py-0.5!"
              aria-label="Behind its name"
              placeholder=".done"
              required
              maxlength="40"
          /></label>
        </fieldset>
        <fieldset>
          <legend class="label">One that was taken</legend>
          <label class="flex min-h-7 items-center gap-2"
            ><input v-model="moves" type="radio" class="accent-pine" name="moves" :value="false" />stays there, and is remembered</label
          ><label class="flex min-h-7 items-center gap-2" :class="!server?.writes && 'text-soft'"
            ><input v-model="moves" type="radio" class="accent-pine" name="moves" :value="true" :disabled="!server?.writes" />is moved to
            <input
              v-if="moves"
              v-model="form.done_folder"
              class="field code w-32! py-0.5!"
              aria-label="Folder for what was taken"
              placeholder="done"
              required
              maxlength="200"
          /></label>
        </fieldset>
        <label v-if="!rule" class="flex items-start gap-2 self-start pt-5"
          ><input v-model="form.leave_old" type="checkbox" class="mt-0.5 accent-pine" />What lies there now is left as it is; only what
          comes from now on is taken</label
        >
      </template>
      <label v-if="isOut && sheet?.what === 'purchases'" class="col-span-2 flex items-center gap-2"
        ><input v-model="form.each" type="checkbox" class="accent-pine" />One purchase order in each file</label
      >
      <p v-if="isOut" class="col-span-2 text-soft">
        What waits for {{ partner?.name }} goes there by itself from now on, each once. While its file has no answer yet, a sheet can be
        taken back only as long as it surely is not there.
      </p>
    </form>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="main" type="submit" form="file-rule" :disabled="busy || !sheet || !places.length">Save it</Btn></template
    >
  </Modal>
</template>
