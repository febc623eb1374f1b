<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, take } from '@/api/client'
import { useKeys } from '@/app/keys'
import { limited, may } from '@/app/may'
import { askAgain, lookNow } from '@/app/live'
import { tell, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Pills from '@/parts/Pills.vue'
import SheetIn from '@/parts/SheetIn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { useAsk } from '@/parts/ask'
import { money, plural } from '@/parts/format'
import Desk from './Desk.vue'
import Faults from './Faults.vue'
import GiveSkus from './GiveSkus.vue'
import Settled from './Settled.vue'
import { faultsQuery, offersQuery, queueQuery, skuQuery } from './queries'

const { set, text } = useAsk(() => '')
const router = useRouter()
const client = useQueryClient()
const asked = useQuery(queueQuery())
const { data: queue } = asked
const view = computed(() => text('view') || 'settle')
/** What was settled here and is being written; it leaves the list at once, and comes back if it could not be. */
const done = ref(new Set<number>())
const rows = computed(() => (queue.value?.rows ?? []).filter((one) => !done.value.has(one.sku_id)))
const sku = computed(() => Number(text('sku')) || rows.value[0]?.sku_id || null)
const row = computed(() => queue.value?.rows.find((one) => one.sku_id === sku.value))
const total = computed(() => (queue.value ? queue.value.total - done.value.size : 0))
const bring = ref(false)
watch(queue, (now) => {
  // Those that the server does not name any more are settled for good.
  const still = new Set(now?.rows.map((one) => one.sku_id))
  done.value = new Set([...done.value].filter((one) => still.has(one) && inHand.has(one)))
})
const inHand = new Set<number>()

watch(
  [sku, rows],
  () => {
    const at = rows.value.findIndex((one) => one.sku_id === sku.value)
    for (const one of [rows.value[at + 1], rows.value[at + 2]]) {
      if (!one) continue
      void client.prefetchQuery({ ...skuQuery(one.sku_id), staleTime: 60_000 })
      void client.prefetchQuery({ ...offersQuery(one.sku_id, ''), staleTime: 60_000 })
    }
  },
  { immediate: true },
)
function move(by: number) {
  const at = rows.value.findIndex((one) => one.sku_id === sku.value)
  const next = rows.value[Math.max(0, Math.min(rows.value.length - 1, at + by))]
  if (next) set({ sku: String(next.sku_id) })
}
/** After a SKU is settled the next one stands there at once. */
function settled(number: number) {
  const at = rows.value.findIndex((one) => one.sku_id === number)
  const next = rows.value[at + 1] ?? rows.value[at - 1]
  if (at >= 0) {
    inHand.add(number)
    done.value = new Set([...done.value, number])
    setTimeout(() => inHand.delete(number), 8000)
  }
  set({ sku: next ? String(next.sku_id) : undefined })
}
function failed(number: number) {
  inHand.delete(number)
  done.value = new Set([...done.value].filter((one) => one !== number))
  set({ sku: String(number) })
}
async function openSure() {
  try {
    const job = await take(api.POST('/api/v1/lanes/sure'))
    tell('Looking over all SKUs without a lane; the bar below says how far')
    const look = async () => {
      const one = await take(api.GET('/api/v1/jobs/{number}', { params: { path: { number: job.job } } }))
      if (one.state === 'done' || one.state === 'failed' || one.state === 'stopped') {
        tell(one.message, one.state === 'failed')
        void lookNow().then(askAgain)
      } else setTimeout(look, 400)
    }
    void look()
  } catch (problem) {
    tell(wordsOf(problem), true)
  }
}
const ask = (code: string) => void router.push({ path: '/source', query: { view: 'requests', ask: code } })
// What the list of faults has found since the queue counted them.
const { data: looked } = useQuery({ ...faultsQuery(), enabled: false })
const views = computed(() => [
  { key: 'settle', label: 'To map', count: total.value, waits: true },
  // These are of the whole house.
  ...(limited.value
    ? []
    : [
        { key: 'settled', label: 'All lanes' },
        { key: 'faults', label: 'Faults', count: looked.value?.length ?? queue.value?.faults ?? 0, waits: true },
      ]),
])
const to = (key: string) => set({ view: key === 'settle' ? undefined : key, sku: undefined, words: undefined, lane: undefined })
const settling = () => view.value === 'settle'
useKeys('Lanes', [
  { key: 'j', message: 'next SKU', run: () => settling() && move(1) },
  { key: 'k', message: 'SKU before', run: () => settling() && move(-1) },
  { key: 'arrowdown', message: 'next SKU', run: () => settling() && move(1) },
  { key: 'arrowup', message: 'SKU before', run: () => settling() && move(-1) },
])
watch(sku, (now) => document.getElementById(`sku-${now}`)?.scrollIntoView({ block: 'nearest' }))
</script>

<template>
  <div class="flex h-full">
    <section
      v-if="view === 'settle'"
      class="flex w-[296px] max-[1180px]:w-[232px] shrink-0 flex-col border-r border-rule bg-sheet"
      aria-label="SKUs to map"
    >
      <div class="p-3"><Pills :pending="!queue" :options="views" chosen="settle" label="Parts of lanes" @choose="to" /></div>
      <ul class="min-h-0 flex-1 overflow-auto border-t border-rule-2">
        <li v-if="!queue"><Sight :of="asked" :lines="8" /></li>
        <li v-for="one in rows" :id="`sku-${one.sku_id}`" :key="one.sku_id">
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
              ><Tag
                :tone="one.orders ? 'waits' : one.kind === 'no lane' ? 'plain' : 'loss'"
                :title="one.orders && one.waiting ? `${money(one.waiting)} after the store’s share` : one.message"
                >{{
                  one.orders
                    ? `${plural(one.orders, 'order')} ${one.orders === 1 ? 'waits' : 'wait'}`
                    : one.kind === 'no lane'
                      ? one.message
                      : one.kind
                }}</Tag
              ></span
            >
            <span class="mt-0.5 flex items-baseline gap-1.5"
              ><span class="truncate" :title="one.title">{{ one.title }}</span
              ><Tag v-if="one.given" class="ml-auto" :tone="one.mine ? 'info' : 'plain'">{{ one.mine ? 'yours' : one.given }}</Tag></span
            >
          </button>
        </li>
      </ul>
      <div v-if="rows.length" class="border-t border-rule-2 p-3">
        <Btn v-if="!limited" small @click="openSure">Open the sure ones</Btn>
        <GiveSkus v-if="!limited" :rows="rows" :sku="sku" />
        <details v-if="queue?.learnt.length" class="mt-2 text-xs text-soft">
          <summary class="cursor-pointer">{{ plural(queue.learnt.length, 'number pattern') }} learnt from your lanes</summary>
          <ul class="mt-1 max-h-32 overflow-auto">
            <li v-for="one in queue.learnt" :key="one" class="truncate" :title="one">{{ one }}</li>
          </ul>
        </details>
      </div>
    </section>
    <section class="flex min-w-0 flex-1 flex-col overflow-auto">
      <div v-if="view !== 'settle'" class="px-4.5 pt-4.5">
        <Pills :pending="!queue" :options="views" :chosen="view" label="Parts of lanes" @choose="to" />
      </div>
      <Settled v-if="view === 'settled'" @bring="bring = true" @open="set({ view: undefined, sku: String($event) })" />
      <Faults v-else-if="view === 'faults'" @open="set({ view: undefined, sku: String($event) })" />
      <Desk
        v-else-if="sku"
        :sku="sku"
        :message="row && row.kind !== 'no lane' ? row.message : ''"
        @settled="settled(sku)"
        @failed="failed(sku)"
        @bring="bring = true"
        @ask="ask"
        @lane="set({ view: 'settled', open: String($event), sku: undefined })"
      />
      <Empty
        v-else-if="queue"
        title="Every SKU on sale has a lane"
        message="New listings without one appear here; orders that wait for a lane come first."
        ><template v-if="!limited"
          ><Btn @click="to('settled')">See all lanes</Btn
          ><Btn v-if="may('map', 'see money')" @click="bring = true">Import a sheet</Btn></template
        ></Empty
      >
    </section>
    <SheetIn :open="bring" sheet="lanes" title="Import lanes" @close="bring = false" />
  </div>
</template>
