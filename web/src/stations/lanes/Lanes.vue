<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, take } from '@/api/client'
import { useKeys } from '@/app/keys'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import SheetIn from '@/parts/SheetIn.vue'
import Tag from '@/parts/Tag.vue'
import { useAsk } from '@/parts/ask'
import { plural } from '@/parts/format'
import Desk from './Desk.vue'
import Settled from './Settled.vue'

const { set, text } = useAsk(() => '')
const { data: queue } = useQuery({ queryKey: ['to-settle'], queryFn: () => take(api.GET('/api/v1/lanes/to-settle')) })
const view = computed(() => text('view') || 'settle')
const sku = computed(() => Number(text('sku')) || queue.value?.[0]?.sku_id || null)
const bring = ref(false)

function move(by: number) {
  const rows = queue.value ?? []
  const at = rows.findIndex((one) => one.sku_id === sku.value)
  const next = rows[Math.max(0, Math.min(rows.length - 1, at + by))]
  if (next) set({ sku: String(next.sku_id) })
}
/** After a SKU is settled the next one stands there at once. */
function settled(done: number) {
  const rows = queue.value ?? []
  const at = rows.findIndex((one) => one.sku_id === done)
  const next = rows[at + 1] ?? rows[at - 1]
  set({ sku: next ? String(next.sku_id) : undefined })
}
useKeys('Lanes', [
  { key: 'j', told: 'next SKU', run: () => view.value === 'settle' && move(1) },
  { key: 'k', told: 'SKU before', run: () => view.value === 'settle' && move(-1) },
  { key: 'arrowdown', told: 'next SKU', run: () => view.value === 'settle' && move(1) },
  { key: 'arrowup', told: 'SKU before', run: () => view.value === 'settle' && move(-1) },
])
watch(sku, (now) => document.getElementById(`sku-${now}`)?.scrollIntoView({ block: 'nearest' }))
</script>

<template>
  <div class="flex h-full">
    <section v-if="view === 'settle'" class="flex w-[296px] shrink-0 flex-col border-r border-rule bg-sheet" aria-label="SKUs to settle">
      <div class="flex gap-2 p-3">
        <button type="button" class="h-8 rounded bg-asphalt px-3 font-semibold text-sheet" aria-pressed="true">
          To settle {{ queue?.length ?? '' }}</button
        ><button type="button" class="h-8 px-2 font-semibold text-slate" @click="set({ view: 'settled', sku: undefined })">
          All lanes
        </button>
      </div>
      <ul class="min-h-0 flex-1 overflow-auto border-t border-rule-2">
        <li v-for="one in queue ?? []" :id="`sku-${one.sku_id}`" :key="one.sku_id">
          <button
            type="button"
            class="relative block w-full border-b border-rule-2 px-3.5 py-2 text-left"
            :class="one.sku_id === sku ? 'bg-shade' : 'hover:bg-shade/60'"
            :aria-current="one.sku_id === sku"
            @click="set({ sku: String(one.sku_id) })"
          >
            <span v-if="one.sku_id === sku" class="absolute inset-y-0 left-0 w-[3px] bg-asphalt" aria-hidden="true" />
            <span class="flex justify-between gap-2"
              ><span class="code truncate">{{ one.sku }}</span
              ><Tag :tone="one.orders ? 'waits' : 'plain'">{{
                one.orders ? `${plural(one.orders, 'order')} ${one.orders === 1 ? 'waits' : 'wait'}` : 'on sale, no lane'
              }}</Tag></span
            >
            <span class="mt-0.5 block truncate" :title="one.title">{{ one.title }}</span>
          </button>
        </li>
      </ul>
    </section>
    <section class="flex min-w-0 flex-1 flex-col overflow-auto">
      <Settled
        v-if="view === 'settled'"
        @back="set({ view: undefined, words: undefined })"
        @bring="bring = true"
        @open="set({ view: undefined, sku: String($event) })"
      />
      <Desk v-else-if="sku" :key="sku" :sku="sku" @settled="settled(sku)" @bring="bring = true" />
      <Empty
        v-else-if="queue"
        title="Every SKU on sale has a lane"
        told="New listings without one appear here; orders that wait for a lane come first."
        ><Btn @click="set({ view: 'settled' })">See all lanes</Btn><Btn @click="bring = true">Bring in a sheet</Btn></Empty
      >
    </section>
    <SheetIn :open="bring" sheet="lanes" title="Bring in lanes" @close="bring = false" />
  </div>
</template>
