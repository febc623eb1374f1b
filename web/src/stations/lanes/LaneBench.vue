<script setup lang="ts">
/** One lane: what it costs to each country, what it promised and what happened, its item's past, who opened it and why. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { live } from '@/app/live'
import { may } from '@/app/may'
import { act, tell, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import LaneGlyph from '@/parts/LaneGlyph.vue'
import Sight from '@/parts/Sight.vue'
import StepChart from '@/parts/StepChart.vue'
import Tag from '@/parts/Tag.vue'
import { amountOf, dateOf, money, number } from '@/parts/format'
import Kept from './Kept.vue'
import { laneQuery } from './queries'
import { useOf } from './words'
import { home } from '@/parts/home'

const props = defineProps<{ id: number }>()
const emit = defineEmits<{ sku: [sku: number] }>()
const asked = useQuery(computed(() => ({ ...laneQuery(props.id), placeholderData: (before?: Schema<'LaneBench'>) => before })))
const { data } = asked
const lane = computed(() => data.value?.lane)
const show = (value: number) =>
  amountOf(value, data.value?.history[0]?.cost?.currency ?? lane.value?.parts[0]?.cost?.currency ?? home.value)
const to = computed(() => live.now.value)
const series = computed(() => [
  ...(may('see money')
    ? [
        {
          name: 'item cost',
          tone: 'brick' as const,
          show,
          points: (data.value?.history ?? []).map((p) => ({ at: Date.parse(p.at), value: number(p.cost) })),
        },
      ]
    : []),
  {
    name: 'in stock',
    tone: 'ink' as const,
    show: (value: number) => String(Math.round(value)),
    points: (data.value?.history ?? []).map((p) => ({ at: Date.parse(p.at), value: p.stock })),
  },
])
const from = computed(() => to.value - 60 * 86_400_000)
const path = computed(() => ({ path: { number: props.id } }))
const change = (body: { use?: number; state?: string; units?: string }) =>
  act(() => take(api.PATCH('/api/v1/lanes/{number}', { params: path.value, body: { version: lane.value!.version, reason: '', ...body } })))
const close = () =>
  act(() => take(api.POST('/api/v1/lanes/{number}/close', { params: path.value, body: { version: lane.value!.version, reason: '' } })))
const confirm = () =>
  act(() => take(api.POST('/api/v1/lanes/{number}/confirm', { params: path.value, body: { version: lane.value!.version } })))
const editing = ref(false)
const form = reactive({ units: '', starts: '', ends: '', services: {} as Record<string, string> })
watch(
  () => props.id,
  () => (editing.value = false),
)
function edit() {
  const one = lane.value!
  Object.assign(form, { units: one.parts[0]!.units, starts: one.starts ?? '', ends: one.ends ?? '', services: { ...one.services } })
  editing.value = true
}
const countries = computed(() => (data.value?.lands ?? []).map((one) => one.country))
async function keep() {
  const one = lane.value!
  const services = Object.fromEntries(Object.entries(form.services).filter(([, code]) => code))
  try {
    let version = one.version
    if (one.parts.length === 1 && form.units !== one.parts[0]!.units) {
      await take(api.PATCH('/api/v1/lanes/{number}', { params: path.value, body: { version, reason: '', units: form.units } }))
      version += 1
    }
    const message = await take(
      api.POST('/api/v1/lanes/{number}/terms', {
        params: path.value,
        body: { version, services, starts: form.starts || null, ends: form.ends || null },
      }),
    )
    editing.value = false
    void act(() => Promise.resolve(message))
  } catch (problem) {
    tell(wordsOf(problem), true)
  }
}
const proof = computed(() => {
  const one = lane.value?.proof as { score: number; agrees: string[]; differs: string[]; alone: boolean } | null | undefined
  return one && typeof one.score === 'number' ? one : null
})
</script>

<template>
  <Sight :of="asked" :lines="8" />
  <div v-if="data && lane">
    <p class="flex items-baseline gap-2">
      <span class="code text-soft">{{ data.sku }}</span><Btn small kind="link" class="ml-auto h-auto!" @click="emit('sku', data.sku_id)"
        >All its lanes</Btn
      >
    </p>
    <h1 class="line-clamp-2 text-lg!">{{ data.title }}</h1>
    <p class="mt-1 flex flex-wrap items-center gap-2">
      <LaneGlyph :state="lane.begun ? lane.state : 'shut'" :use="lane.use" /><b>{{ useOf(lane.use, lane.instead) }}</b>
      <span class="text-soft">{{ lane.supplier }}, {{ lane.origin }}</span
      ><Tag v-if="lane.store">{{ lane.store }} alone</Tag>
    </p>
    <p class="mt-1.5" :class="lane.state === 'shut' ? 'text-brick' : 'text-soft'">
      {{ lane.state[0]!.toUpperCase() + lane.state.slice(1) }}: {{ lane.reason || 'no reason was given' }}.
      <template v-if="!lane.begun"> It begins on {{ dateOf(lane.starts!) }}.</template
      ><template v-if="lane.ends"> It ends on {{ dateOf(lane.ends) }}.</template>
    </p>
    <div class="mt-3 flex flex-wrap gap-2">
      <Btn v-if="lane.state === 'shut'" kind="main" @click="confirm">It is right, use it</Btn>
      <Btn v-else small @click="change({ state: 'shut' })">Shut</Btn>
      <Btn v-if="lane.use && !lane.instead" small @click="change({ use: 0 })">Make main</Btn>
      <Btn small @click="edit">Units, services, dates</Btn><Btn small @click="close">Close</Btn>
    </div>
    <form v-if="editing" class="sheet mt-3 space-y-2 p-3" @submit.prevent="keep">
      <label v-if="lane.parts.length === 1" class="flex items-center justify-between gap-2"
        ><span class="text-soft">Units per sale</span><input v-model="form.units" class="field w-24! text-right" maxlength="9"
      /></label>
      <label v-for="land in countries" :key="land" class="flex items-center justify-between gap-2"
        ><span class="text-soft">To {{ land }}</span
        ><select v-model="form.services[land]" class="field w-40!">
          <option value="">{{ lane.service }} (its own)</option>
          <option v-for="code in (data.ways[land] ?? []).filter((one) => one !== lane!.service)" :key="code" :value="code">
            {{ code }}
          </option>
        </select></label
      >
      <label class="flex items-center justify-between gap-2"
        ><span class="text-soft">From</span><input v-model="form.starts" type="date" class="field w-40!"
      /></label>
      <label class="flex items-center justify-between gap-2"
        ><span class="text-soft">Until</span><input v-model="form.ends" type="date" class="field w-40!"
      /></label>
      <div class="flex justify-end gap-2">
        <Btn small @click="editing = false">Cancel</Btn><Btn small kind="main" @click="keep">Save</Btn>
      </div>
    </form>
    <h2 class="mt-5 mb-1">Items of one sale</h2>
    <div v-for="part in lane.parts" :key="part.item_id" class="flex items-baseline gap-2 border-b border-rule-2 py-1.5 last:border-0">
      <span class="min-w-0 flex-1"
        ><span class="block truncate" :title="part.title">{{ part.title }}</span
        ><span class="cell-2"
          ><span class="code">{{ part.units }} × {{ part.number }}</span
          ><span v-if="lane.parts.length > 1" class="ml-1.5">{{ part.supplier }}, {{ part.origin }}</span></span
        ></span
      ><span class="text-right"
        ><b>{{ money(part.cost) }}</b
        ><span class="cell-2 block" :class="part.offer === 'gone' || part.stock === 0 ? 'text-brick!' : ''">{{
          part.offer === 'gone' ? 'gone' : part.stock < 0 ? 'stock not told' : `${part.stock} in stock`
        }}</span></span
      >
    </div>
    <h2 class="mt-5 mb-1">One unit at the door</h2>
    <table class="w-full">
      <thead>
        <tr class="h-7 border-b border-rule text-2xs text-soft">
          <th>To</th>
          <th>By</th>
          <th class="text-right">Items</th>
          <th class="text-right">Ship</th>
          <th class="text-right">Pack</th>
          <th class="text-right">Landed</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in data.lands" :key="one.country" class="h-7 border-b border-rule-2">
          <td>{{ one.country }}</td>
          <template v-if="one.landed"
            ><td class="truncate">{{ one.service }}</td>
            <td class="text-right">{{ money(one.goods) }}</td>
            <td class="text-right">{{ money(one.ship) }}</td>
            <td class="text-right">{{ money(one.handling) }}</td>
            <td class="text-right font-bold">{{ money(one.landed) }}</td></template
          >
          <td v-else colspan="5" class="text-right text-brick">{{ one.reason_not }}</td>
        </tr>
      </tbody>
    </table>
    <h2 class="mt-5 mb-1">Promise against actual</h2>
    <Kept :trust="lane.trust" :low="lane.days_low" :high="lane.days_high" />
    <h2 class="mt-5 mb-1">Cost and stock, 60 days</h2>
    <StepChart v-if="data.history.length > 1" :series="series" :from="from" :to="to" />
    <p v-else class="text-soft">Nothing has changed since it is watched.</p>
    <h2 class="mt-5 mb-1">Who opened it, and why</h2>
    <p v-if="proof">
      {{ proof.alone ? 'It was opened by itself' : `Picked by ${lane.opened_by}` }}: likeness {{ proof.score }}.
      <span class="text-soft">{{ [...proof.agrees, ...proof.differs].join('; ') }}</span>
    </p>
    <ul class="mt-1 space-y-0.5 text-soft">
      <li v-for="(one, n) in data.story" :key="n">{{ one }}</li>
    </ul>
  </div>
</template>
