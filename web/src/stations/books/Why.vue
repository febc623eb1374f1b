<script setup lang="ts">
/** Why profit changed: the bridge between two periods, and the table of both beneath it. */
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useKeys } from '@/app/keys'
import LeftOut from '@/parts/LeftOut.vue'
import Pills from '@/parts/Pills.vue'
import Sight from '@/parts/Sight.vue'
import { dayOf, money, number } from '@/parts/format'
import Bridge from './Bridge.vue'
import EffectBench from './EffectBench.vue'
import EntriesBench from './EntriesBench.vue'
import PeriodBar from './PeriodBar.vue'
import ProfitTable from './ProfitTable.vue'
import { BYS, useBooks, whyQuery, type Effect, type Number } from './books'

const { set, text, by, query } = useBooks()
const asked = useQuery(computed(() => ({ ...whyQuery(query.value), placeholderData: keepPreviousData })))
const { data } = asked
const change = computed(() => number(data.value?.change))
const plain = computed(() => (data.value ? money({ ...data.value.change, amount: data.value.change.amount.replace('-', '') }) : ''))
const head = computed(() =>
  !data.value ? 'Profit' : change.value === 0 ? 'Profit is as it was' : `Profit ${change.value < 0 ? 'fell' : 'rose'} ${plain.value}`,
)
/** The largest effect is open at first: it is what one came for. */
const largest = computed<Effect>(
  () =>
    ([...(data.value?.effects ?? [])].sort((a, b) => Math.abs(number(b.amount)) - Math.abs(number(a.amount)))[0]?.effect ??
      'volume') as Effect,
)
const effect = computed<Effect>(() => (text('effect') || largest.value) as Effect)
const opened = ref<Number | null>(null)
function choose(one: Effect) {
  opened.value = null
  set({ effect: one })
}
const span = (first: string, last: string) => (first === last ? dayOf(first) : `${dayOf(first)} – ${dayOf(last)}`)
const step = (by: number) => {
  const all = (data.value?.effects ?? []).map((one) => one.effect as Effect)
  const at = all.indexOf(effect.value)
  const next = all[Math.max(0, Math.min(all.length - 1, at + by))]
  if (next) choose(next)
}
useKeys('Why it changed', [
  { key: 'arrowright', message: 'next effect', run: () => step(1) },
  { key: 'arrowleft', message: 'effect before', run: () => step(-1) },
  { key: 'escape', message: 'back to the effect', run: () => (opened.value = null) },
])
</script>

<template>
  <div class="grid h-full grid-cols-[minmax(0,1fr)_300px] xl:grid-cols-[minmax(0,1fr)_340px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 overflow-auto p-4.5">
      <div class="flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 class="whitespace-nowrap">{{ head }}</h1>
        <span class="ml-auto" /><PeriodBar />
      </div>
      <Sight :of="asked" :lines="5">
        <Bridge
          :before="data!.before"
          :after="data!.after"
          :before-name="span(data!.against_first, data!.against_last)"
          :after-name="span(data!.first, data!.last)"
          :effects="data!.effects"
          :chosen="effect"
          @choose="choose"
        />
        <LeftOut :of="data!.left_out" />
      </Sight>
      <Pills :options="BYS" :chosen="by" label="Rows by" @choose="set({ by: $event, sort: undefined, down: undefined })" />
      <ProfitTable short :chosen="opened" class="shrink-0 overflow-x-auto" @open="opened = $event" />
      <p class="text-xs text-soft">Every figure opens to the entries behind it. The effects add up to the change exactly.</p>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="What is behind it">
      <EntriesBench v-if="opened" :of="opened" />
      <EffectBench v-else-if="data" :effect="effect" />
    </aside>
  </div>
</template>
