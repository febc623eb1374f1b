<script setup lang="ts">
/** Sizes and colours of one thing as a matrix: each combination with its item, cost, price, number and picture; many at once. */
import { computed, onMounted, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { askAgain } from '@/app/live'
import { tellDone, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import { plainOf, plural } from '@/parts/format'
import VariantRow from './VariantRow.vue'
import { draftOf, effect, keyOf, valuesOf, type Draft } from './variants'

const props = defineProps<{ listing: number }>()
const emit = defineEmits<{ close: [] }>()
const data = ref<Schema<'MatrixOut'> | null>(null)
const options = ref<{ name: string; values: string }[]>([])
const drafts = reactive(new Map<string, Draft>())
const chosen = reactive(new Set<string>())
const title = ref('')
const number = ref('')
const numbers = ref<string[]>([])
const bulk = reactive({ price: '', most: '' })
const wrong = ref('')
const failed = ref<Record<string, string>>({})
const busy = ref(false)
const leaving = ref(false)
const path = computed(() => ({ number: props.listing }))
const asked = () => options.value.map((one) => ({ name: one.name.trim(), values: valuesOf(one.values) }))
function show(made: Schema<'MatrixOut'>, anew: boolean) {
  const fresh = made.rows.filter((one) => one.part).length < 2
  if (anew) drafts.clear()
  for (const row of made.rows) if (!drafts.has(keyOf(row.values))) drafts.set(keyOf(row.values), draftOf(row, fresh))
  chosen.clear()
  data.value = made
}
/** Look at the combinations of the options as they are typed; what was typed of those that stay is kept. */
async function look(first = false) {
  const given = asked()
  if (!first && given.some((one) => !one.name || !one.values.length)) return
  wrong.value = ''
  busy.value = true
  try {
    const body = { options: first ? null : given, numbers: numbers.value }
    const made = await take(api.POST('/api/v1/shelf/listings/{number}/family/look', { params: { path: path.value }, body }))
    if (first) {
      title.value = made.title
      options.value = made.options.map((one) => ({ name: one.name, values: one.values.join(', ') }))
    }
    show(made, first)
  } catch (problem) {
    wrong.value = wordsOf(problem)
  } finally {
    busy.value = false
  }
}
onMounted(() => look(true))
const rows = computed(() => data.value?.rows ?? [])
const pictures = computed(() => data.value?.pictures ?? [])
const does = computed(() => effect(rows.value, drafts))
const kept = computed(() => rows.value.filter((row) => drafts.get(keyOf(row.values))?.kept).length)
const dirty = computed(() => does.value.made + does.value.dropped + does.value.changed > 0)
const toldOf = computed(() => {
  const one = does.value
  const parts = [one.made && `${one.made} made`, one.changed && `${one.changed} changed`, one.dropped && `${one.dropped} left out`]
  return parts.filter(Boolean).join(', ') || 'nothing changes yet'
})
const each = (change: (one: Draft) => void) => {
  for (const key of chosen) change(drafts.get(key)!)
}
const all = (on: boolean) => {
  chosen.clear()
  if (on) for (const row of rows.value) chosen.add(keyOf(row.values))
}
function addItem() {
  const text = number.value.trim()
  if (!text) return
  numbers.value = [...new Set([...numbers.value, text])]
  number.value = ''
  void look().then(() => {
    if (!data.value?.items.some((one) => one.number === text)) wrong.value = `No supplier has an item ${text}`
  })
}
async function keep() {
  if (busy.value || !data.value) return
  wrong.value = ''
  busy.value = true
  const wishes = rows.value.map((row) => {
    const one = drafts.get(keyOf(row.values))!
    const price = plainOf(one.price)
    return {
      values: row.values,
      kept: one.kept,
      item: one.item,
      price: price ? { amount: price, currency: data.value!.currency } : null,
      most: one.most.trim() ? Number(one.most) : null,
      picture: one.picture,
    }
  })
  try {
    const body = { version: data.value.version, title: title.value, options: asked(), rows: wishes }
    const done = await take(api.PUT('/api/v1/shelf/listings/{number}/family', { params: { path: path.value }, body }))
    void askAgain(await tellDone(done.message))
    failed.value = done.failed
    if (!Object.keys(done.failed).length) return emit('close')
    show(done.matrix, true)
  } catch (problem) {
    wrong.value = wordsOf(problem)
  } finally {
    busy.value = false
  }
}
const leave = () => (dirty.value && data.value && !leaving.value ? (leaving.value = true) : emit('close'))
</script>

<template>
  <Modal
    open
    broad
    title="Sizes and colours"
    :message="
      data
        ? `${data.sku} in ${data.store}. Every combination is a SKU with its own item, price and number; items are ${data.supplier || 'a supplier'}’s.`
        : ''
    "
    @close="leave"
  >
    <!-- eslint-disable-next-line vuejs-accessibility/no-static-element-interactions -- Ctrl Enter saves from whichever field one is in -->
    <form class="flex flex-col gap-3" @submit.prevent="keep" @keydown.ctrl.enter.prevent="keep">
      <div class="grid grid-cols-[minmax(0,5fr)_minmax(0,7fr)] gap-5">
        <label class="block"
          ><span class="label">What they have in common, for the titles of new ones</span
          ><input v-model="title" class="field" maxlength="300"
        /></label>
        <fieldset>
          <legend class="label">What a buyer chooses, and between what</legend>
          <div v-for="(one, at) in options" :key="at" class="mb-1.5 flex gap-2">
            <input
              v-model="one.name"
              class="field w-32! shrink-0"
              maxlength="60"
              :aria-label="`Name of option ${at + 1}`"
              @change="look()"
            />
            <input
              v-model="one.values"
              class="field min-w-0"
              maxlength="1500"
              placeholder="values, with commas between them"
              :aria-label="`Values of ${one.name || `option ${at + 1}`}`"
              @change="look()"
            />
            <Btn v-if="options.length > 1" small :aria-label="`Take ${one.name} away`" @click="(options.splice(at, 1), look())">Remove</Btn>
          </div>
          <Btn v-if="options.length < 4" small @click="options.push({ name: '', values: '' })">Another option</Btn>
        </fieldset>
      </div>
      <p v-if="wrong" role="alert" class="rounded bg-brick-wash px-3 py-2 text-brick">{{ wrong }}</p>
      <div v-if="Object.keys(failed).length" role="alert" class="rounded bg-amber-wash px-3 py-2 text-amber-ink">
        <b>{{ plural(Object.keys(failed).length, 'combination') }} could not be kept; the others are done</b>
        <p v-for="(reason, one) in failed" :key="one">{{ one }}: {{ reason }}</p>
      </div>
      <div class="flex h-8 items-center gap-2">
        <template v-if="chosen.size">
          <span class="text-soft">{{ chosen.size }} chosen</span>
          <Btn small @click="each((one) => (one.kept = true))">Include</Btn
          ><Btn small @click="each((one) => (one.kept = false))">Leave out</Btn>
          <span class="ml-2 h-5 border-l border-rule" />
          <input v-model="bulk.price" class="field w-20! text-right" inputmode="decimal" maxlength="12" aria-label="Price for the chosen" />
          <Btn small :disabled="!bulk.price.trim()" @click="each((one) => (one.price = bulk.price.trim()))">Fix price</Btn
          ><Btn small @click="each((one) => (one.price = ''))">Price by rule</Btn>
          <span class="ml-2 h-5 border-l border-rule" />
          <input
            v-model="bulk.most"
            class="field w-14! text-right"
            inputmode="numeric"
            maxlength="7"
            aria-label="Most shown of the chosen"
          />
          <Btn small @click="each((one) => (one.most = bulk.most.replace(/\D/g, '')))">Show at most</Btn>
          <template v-if="pictures.length"
            ><span class="ml-2 h-5 border-l border-rule" /><span class="text-soft">first picture</span
            ><button
              v-for="one in pictures"
              :key="one"
              type="button"
              class="rounded border border-rule hover:border-slate"
              :aria-label="`Picture ${pictures.indexOf(one) + 1} first`"
              @click="each((row) => (row.picture = one))"
            >
              <img :src="`api/v1/shelf/pictures/${one}`" alt="" class="size-7 object-contain" /></button
          ></template>
        </template>
        <template v-else>
          <span class="text-soft">{{ plural(rows.length, 'combination') }}, {{ kept }} included.</span>
          <Tag v-if="does.lacking" tone="waits">{{ does.lacking }} without an item</Tag>
          <span class="ml-auto" />
          <label class="flex items-center gap-2 text-soft"
            >Item of any supplier<input
              v-model="number"
              class="field w-40!"
              maxlength="100"
              placeholder="its number"
              @keydown.enter.prevent="addItem" /></label
          ><Btn small :disabled="!number.trim()" @click="addItem">Offer it</Btn>
        </template>
      </div>
      <div class="max-h-[44vh] overflow-auto rounded border border-rule">
        <table class="w-full table-fixed">
          <thead class="sticky top-0 z-10 bg-sheet">
            <tr class="h-7 border-b border-rule text-2xs text-soft">
              <th class="w-9 px-2">
                <input
                  type="checkbox"
                  class="accent-pine"
                  aria-label="Choose all"
                  :checked="chosen.size > 0 && chosen.size === rows.length"
                  @change="all(($event.target as HTMLInputElement).checked)"
                />
              </th>
              <th class="w-[22%]">Combination</th>
              <th>Item</th>
              <th class="w-16 px-2 text-right">Cost</th>
              <th class="w-16 px-2 text-right">Landed</th>
              <th class="w-24 px-2 text-right">Price</th>
              <th class="w-16 px-2 text-right">Profit</th>
              <th class="w-14 px-2 text-right">Stock</th>
              <th class="w-20 px-2 text-right">At most</th>
              <th v-if="pictures.length" class="w-16 px-2">Picture</th>
              <th class="w-40 px-2">Does</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="row in rows" :key="keyOf(row.values)">
              <VariantRow
                v-if="drafts.get(keyOf(row.values))"
                :row="row"
                :draft="drafts.get(keyOf(row.values))!"
                :items="data!.items"
                :pictures="pictures"
                :chosen="chosen.has(keyOf(row.values))"
                @choose="chosen.has(keyOf(row.values)) ? chosen.delete(keyOf(row.values)) : chosen.add(keyOf(row.values))"
              />
            </template>
          </tbody>
        </table>
        <p v-if="!rows.length" class="px-3 py-4 text-soft">
          {{ busy ? 'Looking…' : 'Name an option and its values to see all combinations.' }}
        </p>
      </div>
    </form>
    <template #acts>
      <template v-if="leaving"
        ><span class="mr-auto" role="alert">Leave without saving? {{ toldOf }}.</span><Btn @click="leaving = false">Go on</Btn
        ><Btn @click="emit('close')">Cancel</Btn></template
      >
      <template v-else
        ><span class="mr-auto text-soft">Saving: {{ toldOf }}. Prices by hand stay guarded by the floors.</span
        ><Btn @click="leave">Cancel</Btn
        ><Btn kind="main" hint="Ctrl Enter" :disabled="busy || !kept" @click="keep">Save {{ kept }}</Btn></template
      >
    </template>
  </Modal>
</template>
