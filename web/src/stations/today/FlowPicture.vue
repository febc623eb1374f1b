<script setup lang="ts">
/** Open order lines from suppliers to stores: a band as wide as its lines, dashed where lanes are slow. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import { plural } from '@/parts/format'

const props = defineProps<{ flow: Schema<'Flow'>[] }>()
const WIDTH = 370
/** What fits beside a band; the whole name is in its title. */
const short = (name: string) => (name.length > 16 ? `${name.slice(0, 15).trimEnd()}…` : name)
const layout = computed(() => {
  const sum = (key: 'supplier' | 'store') => {
    const all = new Map<number, { name: string; lines: number }>()
    for (const one of props.flow) {
      const side = all.get(one[key]) ?? { name: key === 'supplier' ? one.supplier_name : one.store_name, lines: 0 }
      side.lines += one.lines
      all.set(one[key], side)
    }
    return [...all].sort((a, b) => b[1].lines - a[1].lines)
  }
  const total = props.flow.reduce((n, one) => n + one.lines, 0)
  const height = Math.max(90, Math.max(sum('supplier').length, sum('store').length) * 60)
  const place = (sides: [number, { name: string; lines: number }][]) =>
    new Map(
      sides.map(([id, side], i) => {
        const y = (height * (i + 0.5)) / sides.length
        return [id, { ...side, y, size: Math.max(14, (side.lines / total) * 54) }]
      }),
    )
  const left = place(sum('supplier'))
  const right = place(sum('store'))
  const bands = props.flow.map((one) => {
    const [a, b] = [left.get(one.supplier)!, right.get(one.store)!]
    return { ...one, path: `M118 ${a.y}C190 ${a.y} 190 ${b.y} 258 ${b.y}`, width: Math.max(2, (one.lines / total) * 34) }
  })
  return { left, right, bands, height }
})
</script>

<template>
  <svg
    :viewBox="`0 0 ${WIDTH} ${layout.height}`"
    class="mt-2 w-full"
    role="img"
    :aria-label="flow.map((one) => `${one.supplier_name} to ${one.store_name}: ${one.lines} open lines`).join('; ')"
  >
    <path
      v-for="band in layout.bands"
      :key="`${band.supplier}-${band.store}`"
      :d="band.path"
      fill="none"
      :stroke-width="band.width"
      :stroke-dasharray="band.slow ? '9 5' : undefined"
      class="stroke-pine opacity-60"
    />
    <g v-for="[id, side] in layout.left" :key="`s${id}`">
      <rect x="112" :y="side.y - side.size / 2" width="6" :height="side.size" class="fill-pine" />
      <text x="106" :y="side.y - 2" text-anchor="end" class="fill-ink text-xs font-semibold">
        {{ short(side.name) }}
        <title>{{ side.name }}</title>
      </text>
      <text x="106" :y="side.y + 12" text-anchor="end" class="fill-soft text-2xs">{{ plural(side.lines, 'open line') }}</text>
    </g>
    <g v-for="[id, side] in layout.right" :key="`t${id}`">
      <rect x="258" :y="side.y - side.size / 2" width="6" :height="side.size" class="fill-asphalt-2" />
      <text x="270" :y="side.y - 2" class="fill-ink text-xs font-semibold">
        {{ short(side.name) }}
        <title>{{ side.name }}</title>
      </text>
      <text x="270" :y="side.y + 12" class="fill-soft text-2xs">{{ plural(side.lines, 'line') }}</text>
    </g>
  </svg>
</template>
