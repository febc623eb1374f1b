<script setup lang="ts">
/** One SKU: which item fills it, and what opening the lane would do. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act, wordsOf } from '@/app/told'
import Btn from '@/parts/Btn.vue'
import KeyHint from '@/parts/KeyHint.vue'
import Tag from '@/parts/Tag.vue'
import { money, plural } from '@/parts/format'
import LaneTable from './LaneTable.vue'

const props = defineProps<{ sku: number }>()
const emit = defineEmits<{ settled: []; bring: [] }>()
const words = ref('')
const asked = ref('')
const cursor = ref(0)
const units = ref('1')
let timer: ReturnType<typeof setTimeout> | undefined
watch(words, (now) => {
  clearTimeout(timer)
  timer = setTimeout(() => {
    asked.value = now
    cursor.value = 0
  }, 150)
})
const path = computed(() => ({ sku_id: props.sku }))
const { data, error } = useQuery({
  queryKey: computed(() => ['sku', props.sku]),
  queryFn: () => take(api.GET('/api/v1/lanes/skus/{sku_id}', { params: { path: path.value } })),
})
const { data: items } = useQuery({
  queryKey: computed(() => ['candidates', props.sku, asked.value]),
  queryFn: () => take(api.GET('/api/v1/lanes/skus/{sku_id}/candidates', { params: { path: path.value, query: { words: asked.value } } })),
  placeholderData: (before) => before,
})
const current = computed(() => items.value?.[cursor.value])
watch(current, (one, before) => one?.item_id !== before?.item_id && (units.value = '1'))
const body = (item: number, use: number) => ({ sku_id: props.sku, parts: [{ item_id: item, units: units.value || '1' }], use })
const { data: preview, error: refused } = useQuery({
  queryKey: computed(() => ['preview', props.sku, current.value?.item_id, units.value]),
  queryFn: () => take(api.POST('/api/v1/lanes/preview', { body: body(current.value!.item_id, 0) })),
  enabled: computed(() => !!current.value),
  retry: false,
  meta: { live: false },
})
async function open(item: Schema<'CandidateOut'>, use: number) {
  const done = await act(() => take(api.POST('/api/v1/lanes', { body: body(item.item_id, use) })))
  if (done && use === 0) emit('settled')
}
const spare = () => (data.value?.lanes.length ? data.value.lanes.length : 0)
const search = ref<HTMLInputElement | null>(null)
useKeys('This SKU', [
  ...Array.from({ length: 9 }, (_, n) => ({
    key: String(n + 1),
    told: '1 to 9: make it the main lane',
    run: () => {
      const one = items.value?.[n]
      if (one) void open(one, 0)
    },
  })),
  { key: 'shift+enter', told: 'add the row as a spare', run: () => current.value && void open(current.value, spare()) },
  { key: 'l', told: 'down the items', run: () => (cursor.value = Math.min(cursor.value + 1, (items.value?.length ?? 1) - 1)) },
  { key: 'h', told: 'up the items', run: () => (cursor.value = Math.max(cursor.value - 1, 0)) },
  { key: 'a', told: 'open the lane to the row', run: () => current.value && void open(current.value, 0) },
  { key: '/', told: 'search the items', run: () => search.value?.select() },
])
</script>

<template>
  <div v-if="error" role="alert" class="p-6 text-brick">{{ wordsOf(error) }}</div>
  <div v-else-if="data" class="min-w-0 p-5">
    <div class="flex items-start gap-3">
      <div class="min-w-0 flex-1">
        <p>
          <span class="code">{{ data.sku }}</span> <span class="text-soft">{{ data.price ? 'sells at' : 'is not listed' }}</span>
          <b v-if="data.price" class="ml-1">{{ money(data.price) }}</b><span v-if="data.orders_waiting" class="text-amber-ink"
            >, {{ plural(data.orders_waiting, 'order') }} {{ data.orders_waiting === 1 ? 'waits' : 'wait' }}</span
          >
        </p>
        <h1 class="truncate" :title="data.title">{{ data.title }}</h1>
      </div>
      <Btn @click="emit('bring')">Bring in a sheet</Btn>
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
          <input v-model="units" class="field w-16! text-right" maxlength="9" aria-label="Supplier units per unit sold, such as 2 or 1/5"
        /></label>
      </div>
      <table class="w-full table-fixed">
        <colgroup>
          <col style="width: 42px" />
          <col />
          <col style="width: 31%" />
          <col style="width: 84px" />
          <col style="width: 78px" />
        </colgroup>
        <thead>
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th />
            <th class="px-2">Which supplier item fills it?</th>
            <th class="px-2">What agrees, what does not</th>
            <th class="px-2 text-right">Item cost</th>
            <th class="px-3 text-right">In stock</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="(one, n) in items ?? []"
            :key="one.item_id"
            class="h-12 border-b border-rule-2"
            :class="cursor === n ? 'bg-shade' : 'hover:bg-shade/60'"
            @click="cursor = n"
            @dblclick="open(one, 0)"
          >
            <td class="relative pl-3">
              <span v-if="cursor === n" class="absolute inset-y-0 left-0 w-[3px] bg-asphalt" aria-hidden="true" /><kbd
                class="rounded border border-faint px-1 font-mono text-2xs"
                >{{ n + 1 }}</kbd
              >
            </td>
            <td class="px-2">
              <b class="block truncate" :title="one.title">{{ one.title }}</b><span class="cell-2 block"
                ><span class="code">{{ one.number }}</span> {{ one.supplier }}, {{ one.origin }}</span
              >
            </td>
            <td class="px-2 py-1.5">
              <span class="flex flex-wrap gap-1"
                ><Tag v-for="text in one.agrees.slice(0, 3)" :key="text" tone="good" class="max-w-full truncate" :title="text">{{
                  text
                }}</Tag
                ><Tag v-for="text in one.differs.slice(0, 2)" :key="text" tone="loss" class="max-w-full truncate" :title="text">{{
                  text
                }}</Tag></span
              >
            </td>
            <td class="px-2 text-right font-semibold">{{ money(one.cost) }}</td>
            <td class="px-3 text-right" :class="one.stock === 0 ? 'text-brick' : ''">
              {{ one.offer === 'gone' ? 'gone' : one.stock < 0 ? '?' : one.stock }}
            </td>
          </tr>
          <tr v-if="items && !items.length">
            <td colspan="5" class="px-4 py-6 text-center text-soft">No item has these words. Try fewer, or the supplier's number.</td>
          </tr>
        </tbody>
      </table>
      <div class="flex items-center gap-4 p-2.5">
        <div class="flex min-w-0 flex-1 flex-wrap gap-x-4 gap-y-1">
          <KeyHint keys="1…9" told="make it the main lane" /><KeyHint keys="Shift Enter" told="add as spare" /><KeyHint
            keys="H L"
            told="move"
          />
        </div>
        <Btn v-if="current" :disabled="!data.lanes.length" @click="open(current, spare())">Add as spare</Btn>
        <Btn v-if="current" kind="main" hint="A" @click="open(current, 0)">Open lane to {{ current.number }}</Btn>
      </div>
    </div>
    <div class="mt-3 grid grid-cols-[minmax(0,1.5fr)_minmax(0,1fr)] items-start gap-3">
      <div>
        <h2 class="mb-1.5">Lanes of this SKU</h2>
        <LaneTable :lanes="data.lanes" />
      </div>
      <div class="sheet p-3.5">
        <h2>What opening it does</h2>
        <p v-if="refused" role="alert" class="mt-1 text-brick">{{ wordsOf(refused) }}</p>
        <ul v-else-if="preview && current" class="mt-1 list-disc space-y-1 pl-4">
          <li>
            {{
              preview.orders
                ? `${plural(preview.orders, 'waiting order')} ${preview.orders === 1 ? 'goes' : 'go'} on`
                : 'No order waits for it'
            }}
          </li>
          <li v-if="preview.landed">
            It lands at <b>{{ money(preview.landed) }}</b><template v-if="preview.price && preview.outcome === 'ok'"
              >; the price becomes <b>{{ money(preview.price) }}</b>, keeping <b>{{ money(preview.profit) }}</b></template
            ><template v-else>; no price inside your limits, so the old one waits for you</template>
          </li>
          <li v-if="preview.landed">
            The listing shows <b>{{ preview.shows }}</b> of {{ current.stock < 0 ? 'an untold number' : current.stock }}
          </li>
          <li>Its price and stock are watched from the next sweep on</li>
        </ul>
        <p v-else class="mt-1 text-soft">Choose an item to see it.</p>
      </div>
    </div>
  </div>
</template>
