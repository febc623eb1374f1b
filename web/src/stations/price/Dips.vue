<script setup lang="ts">
/** Where the price falls as the cost rises: each fall as a picture, with its range, and the way over it. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import { minorOf, money, plural } from '@/parts/format'

const props = defineProps<{ dips: Schema<'DipOut'>[] }>()
defineEmits<{ carry: [dip: Schema<'DipOut'>] }>()
const W = 190
const H = 62
/** One picture for each band, of the store where most stands in it; a way over it is a way over it for all. */
const edges = computed(() => {
  const found = new Map<string, Schema<'DipOut'>[]>()
  const bandOf = (dip: Schema<'DipOut'>) => dip.money + dip.band_from
  for (const dip of props.dips) found.set(bandOf(dip), [...(found.get(bandOf(dip)) ?? []), dip])
  return [...found.values()].map((rows) => rows.sort((a, b) => b.listings - a.listings))
})
const drawn = computed(() =>
  edges.value.map((rows) => {
    const dip = rows[0]!
    const over = rows.reduce((most, one) => (one.least > most.least ? one : most))
    const listings = rows.reduce((sum, one) => sum + one.listings, 0)
    const xs = dip.curve.map((at) => at[0]!)
    const ys = dip.curve.map((at) => at[1]!)
    const [x0, x1, y0, y1] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)]
    const x = (n: number) => 3 + ((n - x0) * (W - 6)) / Math.max(x1 - x0, 1)
    const y = (n: number) => H - 4 - ((n - y0) * (H - 8)) / Math.max(y1 - y0, 1)
    const edge = minorOf(dip.edge)
    const until = minorOf(dip.until)
    return {
      dip,
      over,
      listings,
      stores: rows.length,
      path: dip.curve.map((at, n) => `${n ? 'L' : 'M'}${x(at[0]!).toFixed(1)} ${y(at[1]!).toFixed(1)}`).join(''),
      from: Math.max(x(edge), 0),
      wide: Math.max(x(until) - x(edge), 2),
    }
  }),
)
</script>

<template>
  <section v-if="dips.length" class="mt-3 rounded border border-amber bg-amber-wash p-3" aria-label="Prices that fall as cost rises">
    <h2 class="text-amber-ink">A dearer item becomes cheaper here</h2>
    <div
      v-for="{ dip, over, listings, stores, path, from, wide } in drawn"
      :key="dip.money + dip.band_from"
      class="mt-2 flex items-center gap-4"
    >
      <svg
        :viewBox="`0 0 ${W} ${H}`"
        class="h-[62px] w-[190px] shrink-0 rounded bg-sheet"
        role="img"
        :aria-label="`Price by landed cost around ${money(dip.edge)}`"
      >
        <rect :x="from" y="0" :width="wide" :height="H" class="fill-amber-wash" />
        <path :d="path" fill="none" stroke-width="1.8" class="stroke-asphalt" />
      </svg>
      <p class="min-w-0 flex-1">
        At a landed cost of {{ money(dip.edge) }} the price in {{ dip.store }} falls from <b>{{ money(dip.below) }}</b> to
        <b>{{ money(dip.at) }}</b>, and is lower up to a cost of {{ money(dip.until)
        }}{{ stores > 1 ? `; in ${plural(stores - 1, 'other store')} likewise` : ''
        }}{{ over.below !== dip.below ? `, the highest in ${over.store} at ${money(over.below)}` : '' }}.
        {{ listings ? `${plural(listings, 'listing')} ${listings === 1 ? 'stands' : 'stand'} there` : 'No listing stands there now' }}.
      </p>
      <Btn small :title="`The band from ${money(dip.edge)} never goes under ${money(over.below)}`" @click="$emit('carry', over)"
        >Carry {{ money(over.below) }} over</Btn
      >
    </div>
  </section>
</template>
