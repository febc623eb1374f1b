<script setup lang="ts">
/** All that depots hold with its days ahead; beside it the chosen SKU in full; below what is on its way and what was counted short. */
import { useQuery } from '@tanstack/vue-query'
import { useMediaQuery } from '@vueuse/core'
import { computed, watch } from 'vue'
import { useRoute } from 'vue-router'
import type { Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Tag from '@/parts/Tag.vue'
import { count, fixed, money, plural } from '@/parts/format'
import { useRowKeys } from '@/parts/rowKeys'
import HeldBench from './HeldBench.vue'
import LoadCard from './LoadCard.vue'
import Ribbon from './Ribbon.vue'
import ShortCard from './ShortCard.vue'
import { dayAt, loadsQuery, notNow, openLane, order, type Held } from './depot'

const props = defineProps<{ of: Schema<'DepotView'> }>()
const emit = defineEmits<{ plan: []; show: [view: string] }>()
const route = useRoute()
const loads = useQuery(loadsQuery())
const wide = useMediaQuery('(min-width: 1200px)')
const rows = computed(() => props.of.rows)
const act = () => row.value?.order && void order([{ held: row.value.id, units: row.value.order }])
const active = useRowKeys('Stock ahead', 'SKU', () => rows.value.length, [
  { key: 'a', message: 'order what is proposed', run: act },
  { key: 'm', message: 'make it the main lane', run: () => row.value?.main === null && void openLane(row.value.id, 0) },
  { key: 's', message: 'not now', run: () => row.value?.order && void notNow(row.value.id) },
])
const row = computed<Held | undefined>(() => rows.value[active.value])
watch(
  () => [route.query.sku, rows.value.length],
  () => {
    const at = rows.value.findIndex((one) => String(one.id) === route.query.sku)
    if (at >= 0) active.value = at
  },
  { immediate: true },
)
const marks = computed(() => (wide.value ? [0, 10, 20, 30, 40, 50] : [0, 20, 40]))
const coming = computed(() =>
  (loads.data.value ?? []).filter((one) => ['ordered', 'on_the_way', 'at_gate'].includes(one.state)).slice(0, 2),
)
const short = computed(() =>
  (loads.data.value ?? []).flatMap((load) => load.lines.filter((line) => line.difference && !line.settled).map((line) => ({ load, line }))),
)
function next(one: Held): { words: string; tone: 'waits' | 'loss' | 'plain' | 'good' } {
  if (one.order) return { words: `Order ${count(one.order)} today`, tone: 'waits' }
  if (one.slow)
    return {
      words: one.mean && one.there / one.mean < 730 ? `${count(Math.round(one.there / one.mean))} days: too many` : 'over 2 years',
      tone: 'loss',
    }
  if (one.state === 'ended') return { words: 'no more is sent', tone: 'plain' }
  if (one.order_in === null) return { words: 'not sold', tone: 'plain' }
  if (one.order_in === 0) return { words: 'put off', tone: 'plain' }
  return { words: `in ${plural(one.order_in, 'day')}`, tone: 'plain' }
}
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)_340px] max-[1180px]:grid-cols-[minmax(0,1fr)_300px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 overflow-auto p-4.5">
      <Empty
        v-if="!rows.length"
        title="The depot holds nothing yet"
        message="See what is worth holding: each SKU that sells steadily, with what it would save."
        ><Btn kind="main" @click="emit('show', 'worth')">See what is worth holding</Btn></Empty
      >
      <div v-else class="sheet overflow-x-auto">
        <table class="w-full table-fixed">
          <colgroup>
            <col class="w-[26%]" />
            <col class="w-[58px]" />
            <col class="w-[58px]" />
            <col />
            <col class="w-[126px]" />
          </colgroup>
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-2.5">Held at the depot</th>
              <th class="px-1.5 text-right">There</th>
              <th class="px-1.5 text-right">A day</th>
              <th class="pr-2 pl-4">
                <span class="relative block h-4"
                  ><span
                    v-for="day in marks"
                    :key="day"
                    class="absolute whitespace-nowrap"
                    :style="{ left: `${(day / of.days) * 100}%` }"
                    >{{ day ? dayAt(of.today, day) : 'today' }}</span
                  ></span
                >
              </th>
              <th class="px-2.5">Next order</th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="(one, n) in rows"
              :key="one.id"
              class="h-12 cursor-pointer border-b border-rule-2 last:border-0"
              :class="n === active ? 'bg-shade' : ''"
              :aria-selected="n === active"
              @click="active = n"
            >
              <th scope="row" class="px-2.5">
                <span class="block truncate" :title="one.title">{{ one.title }}</span><span class="code font-normal text-soft">{{
                  one.sku
                }}</span>
              </th>
              <td class="px-1.5 text-right font-bold">{{ count(one.there) }}</td>
              <td class="px-1.5 text-right">{{ fixed(one.mean, 1) }}</td>
              <td class="pr-2 pl-4"><Ribbon :row="one" :today="of.today" :days="of.days" /></td>
              <td class="px-2.5">
                <Tag :tone="next(one).tone">{{ next(one).words }}</Tag>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <div v-if="rows.length" class="flex flex-wrap items-center gap-x-3 gap-y-1 text-xs text-soft">
        <p class="min-w-0 flex-1">
          Height: units expected. The paler, the less sure that any is left; red: more likely out. □ a load arrives. Dashed: order by then;
          amber: now.
        </p>
        <Btn v-if="of.to_order" small hint="P" @click="emit('plan')">Order all within a budget, {{ money(of.spend) }}</Btn>
      </div>
      <div v-if="coming.length || short.length" class="grid gap-3 lg:grid-cols-2">
        <LoadCard v-for="one in coming" :key="one.id" :load="one" />
        <ShortCard v-for="one in short.slice(0, 3)" :key="one.line.id" :load="one.load" :line="one.line" />
      </div>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="The SKU">
      <HeldBench v-if="row" :key="row.id" :row="row" :today="of.today" />
      <p v-else class="text-soft">Choose a SKU to see its days ahead and what it costs from here.</p>
    </aside>
  </div>
</template>
