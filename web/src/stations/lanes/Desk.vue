<script setup lang="ts">
/** One SKU: which item fills it, what opening the lane would do, and its sizes together. One key settles it. */
import { watchDebounced } from '@vueuse/core'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { limited, may } from '@/app/may'
import { act, wordsOf } from '@/app/messages'
import AlsoHere from '@/parts/AlsoHere.vue'
import Btn from '@/parts/Btn.vue'
import KeyHint from '@/parts/KeyHint.vue'
import MarkedTitle from '@/parts/MarkedTitle.vue'
import Sight from '@/parts/Sight.vue'
import { money, plural } from '@/parts/format'
import Family from './Family.vue'
import LaneForm from './LaneForm.vue'
import LaneTable from './LaneTable.vue'
import Offers from './Offers.vue'
import { offersQuery, previewQuery, skuQuery } from './queries'
import { settle } from './settle'

type Offer = Schema<'OfferOut'>
const props = defineProps<{ sku: number; message?: string }>()
const emit = defineEmits<{ settled: []; failed: []; bring: []; ask: [sku: string]; lane: [lane: number] }>()
const words = ref('')
const asked = ref('')
const cursor = ref(0)
const units = ref('')
const family = ref(false)
const form = ref(false)
/** What it would do is worked out for the row that a person rests on, not for every row passed by. */
const rested = ref<{ item: Offer; units: string } | null>(null)
watchDebounced(
  words,
  (now) => {
    if (now === asked.value) return
    asked.value = now
    cursor.value = 0
  },
  { debounce: 150 },
)
/** The page stays and its SKU changes, which is quicker than building it anew. */
watch(
  () => props.sku,
  () => {
    words.value = asked.value = units.value = ''
    cursor.value = 0
    rested.value = null
    family.value = form.value = false
  },
)
const { data, error } = useQuery(computed(() => skuQuery(props.sku)))
const offered = useQuery(computed(() => ({ ...offersQuery(props.sku, asked.value), placeholderData: undefined })))
const { data: items } = offered
const current = computed(() => items.value?.[cursor.value])
watch(current, (one, before) => one?.item_id !== before?.item_id && (units.value = ''))
const unitsOf = (one: Offer) => (one === current.value && units.value.trim() ? units.value.trim() : one.units)
watchDebounced([current, units], () => (rested.value = current.value ? { item: current.value, units: unitsOf(current.value) } : null), {
  debounce: 180,
  immediate: true,
})
const { data: preview, error: refused } = useQuery(
  computed(() => ({
    ...previewQuery({
      sku_id: props.sku,
      parts: rested.value ? [{ item_id: rested.value.item.item_id, units: rested.value.units }] : [],
      use: 0,
      instead: false,
    }),
    enabled: !!rested.value && !rested.value.item.lane,
    retry: false,
  })),
)
async function open(one: Offer, use: number) {
  const main = use === 0
  // The next SKU stands there before this one is written; should it fail, it comes back.
  if (main) emit('settled')
  const done = await act(() => settle(props.sku, one, use, unitsOf(one)))
  if (main && !done) emit('failed')
}
async function none() {
  const rows = items.value ?? []
  if (!rows.length) return
  emit('settled')
  const body = { items: rows.map((one) => one.item_id) }
  const done = await act(() => take(api.POST('/api/v1/lanes/skus/{sku_id}/refuse', { params: { path: { sku_id: props.sku } }, body })))
  if (!done) emit('failed')
}
const spare = computed(() => data.value?.lanes.filter((one) => !one.instead).length ?? 0)
const search = ref<HTMLInputElement | null>(null)
const go = (to: number) => (cursor.value = Math.max(0, Math.min(to, (items.value?.length ?? 1) - 1)))
useKeys('This SKU', [
  ...Array.from({ length: 9 }, (_, n) => ({
    key: String(n + 1),
    message: '1 to 9: make it the main lane',
    run: () => {
      const one = items.value?.[n]
      if (one) void open(one, 0)
    },
  })),
  ...Array.from({ length: 9 }, (_, n) => ({
    key: `shift+${n + 1}`,
    message: 'Shift 1 to 9: add it as a spare',
    run: () => {
      const one = items.value?.[n]
      if (one) void open(one, Math.max(spare.value, 1))
    },
  })),
  { key: 'n', message: 'none of these: they are not offered again', run: () => void none() },
  { key: 'r', message: 'ask a supplier for it', run: () => data.value && may('list') && emit('ask', data.value.sku) },
  { key: 'v', message: 'settle all its sizes together', run: () => data.value?.siblings && (family.value = true) },
  { key: 'm', message: 'a kit, a store’s own lane, dates', run: () => (form.value = true) },
  { key: 'l', message: 'down the items', run: () => go(cursor.value + 1) },
  { key: 'h', message: 'up the items', run: () => go(cursor.value - 1) },
  { key: 'a', message: 'open the lane to the row', run: () => current.value && void open(current.value, 0) },
  { key: '/', message: 'search the items', run: () => search.value?.select() },
])
</script>

<template>
  <div v-if="error" role="alert" class="p-6 text-brick">{{ wordsOf(error) }}</div>
  <div v-else class="min-w-0 p-5">
    <div class="flex items-start gap-3">
      <div class="min-w-0 flex-1">
        <p v-if="data" class="truncate">
          <span class="code">{{ data.sku }}</span>
          <span class="ml-1.5 text-soft">{{ data.stores.length ? data.stores.join(', ') : 'not on sale' }}</span><template v-if="data.price"
            ><span class="text-soft">, sells at </span><b>{{ money(data.price) }}</b></template
          ><span v-if="data.orders_waiting" class="text-amber-ink"
            >, {{ plural(data.orders_waiting, 'order') }} {{ data.orders_waiting === 1 ? 'waits' : 'wait' }}</span
          >
        </p>
        <p v-else class="text-soft">…</p>
        <h1 class="line-clamp-2">
          <MarkedTitle v-if="data && current" :title="data.title" :marks="current.our_marks" /><template v-else>{{ data?.title }}</template>
        </h1>
        <p v-if="message" class="mt-0.5 text-amber-ink">{{ message }}</p>
        <AlsoHere class="mt-1 inline-block" :names="data?.others" />
      </div>
      <Btn hint="M" @click="form = true">Kit or more</Btn
      ><Btn v-if="!limited && may('see money')" @click="emit('bring')">Import a sheet</Btn
      ><Btn v-if="!limited && may('list')" hint="R" @click="data && emit('ask', data.sku)">Ask a supplier for it</Btn>
    </div>
    <div class="sheet mt-3 overflow-hidden">
      <div class="flex items-center gap-3 border-b border-rule p-2.5">
        <input
          ref="search"
          v-model="words"
          type="search"
          class="field flex-1"
          placeholder="Search all suppliers' items by word, number or barcode"
          aria-label="Search items"
          maxlength="200"
          @keydown.esc="search?.blur()"
        />
        <label class="flex items-center gap-2 text-soft"
          >Supplier units per sale
          <input
            v-model="units"
            class="field w-16! text-right"
            maxlength="9"
            :placeholder="current?.units ?? '1'"
            aria-label="Supplier units per unit sold, such as 2 or 1/5"
        /></label>
      </div>
      <Offers v-if="items?.length" :rows="items" :cursor="cursor" @move="go" @open="open($event, 0)" />
      <Sight v-else-if="!items" :of="offered" :lines="5" />
      <p v-else class="px-4 py-6 text-center text-soft">
        {{
          asked
            ? 'No item has these words. Try fewer, or the supplier’s number.'
            : 'Nothing is like it. Search by word or number, or ask a supplier for it.'
        }}
      </p>
      <div class="flex items-center gap-4 border-t border-rule-2 p-2.5">
        <div class="flex min-w-0 flex-1 flex-wrap gap-x-4 gap-y-1">
          <KeyHint keys="1 … 9" message="make it the main lane" /><KeyHint keys="Shift 1" message="add as spare" /><KeyHint
            keys="N"
            message="none of these"
          /><KeyHint keys="H L" message="move" />
        </div>
        <Btn v-if="current" kind="main" hint="A" @click="open(current, 0)"
          >{{ current.lane_state === 'shut' ? 'It is right, use' : 'Open lane to' }} {{ current.number }}</Btn
        >
      </div>
    </div>
    <template v-if="data?.lanes.length">
      <h2 class="mt-4 mb-1.5">Lanes of this SKU</h2>
      <LaneTable :lanes="data.lanes" @open="emit('lane', $event)" />
    </template>
    <div class="mt-3 grid grid-cols-2 items-stretch gap-3">
      <div class="sheet p-3.5">
        <h2>What opening it does</h2>
        <p v-if="refused" role="alert" class="mt-1 text-brick">{{ wordsOf(refused) }}</p>
        <ul v-else-if="preview && rested" class="mt-1 list-disc space-y-1 pl-4">
          <li>
            <template v-if="preview.orders"
              >{{ plural(preview.orders, 'waiting order') }} {{ preview.orders === 1 ? 'is' : 'are' }} planned anew{{
                may('see money') ? ', at what the buyer paid' : ''
              }}</template
            ><template v-else>No order waits for it</template>
          </li>
          <li v-if="preview.landed">
            Landed cost <b>{{ money(preview.landed) }}</b><template v-if="preview.price && preview.outcome === 'ok'"
              >; the price becomes <b>{{ money(preview.price) }}</b>, profit <b>{{ money(preview.profit) }}</b></template
            ><template v-else>; no price inside your limits, so the old one waits for you</template>
          </li>
          <li v-if="preview.packs" class="text-amber-ink">{{ preview.packs }}; they are counted as worth nothing</li>
          <li v-if="preview.landed || !may('see money')">
            The listing shows <b>{{ preview.shows }}</b> of
            {{ rested.item.makes === null ? 'an untold number' : `the ${rested.item.makes} that can be filled` }}
          </li>
          <li>
            Its price and stock are looked at every <b>{{ preview.sweep_minutes }} min</b>
          </li>
        </ul>
        <p v-else class="mt-1 text-soft">
          {{ current?.lane ? 'It has this lane already.' : current ? 'Working it out…' : 'Choose an item to see it.' }}
        </p>
      </div>
      <div class="sheet p-3.5">
        <h2>Other sizes and colours</h2>
        <template v-if="data?.siblings">
          <p class="mt-1 text-soft">
            {{ plural(data.siblings, 'other SKU') }} of the same thing, {{ data.siblings_bare || 'none' }} without a lane.
          </p>
          <div class="mt-2.5"><Btn hint="V" @click="family = true">Settle them together</Btn></div>
        </template>
        <p v-else class="mt-1 text-soft">It comes in no other size or colour.</p>
      </div>
    </div>
    <Family v-if="family" :sku="sku" @close="family = false" />
    <LaneForm v-if="form && data" :sku="data" :offers="items ?? []" @close="form = false" />
  </div>
</template>
