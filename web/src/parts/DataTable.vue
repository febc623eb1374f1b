<script setup lang="ts" generic="R extends { id: number }">
/** The one table for long lists: sorted and paged by the server, rows only where they are seen, worked by keys and mouse. */
import { useMediaQuery } from '@vueuse/core'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, ref, toRef, watch } from 'vue'
import type { ListPath } from '@/api/lists'
import { useKeys } from '@/app/keys'
import { tell, wordsOf } from '@/app/messages'
import { usePages, type ListAsk } from './pages'
import { count } from './format'

export interface Column {
  key: string
  label: string
  width?: string
  right?: boolean
  sort?: string | false
  /** Shown only where there is room for it. */
  wide?: boolean
}

const props = defineProps<{
  path: ListPath<R>
  columns: Column[]
  ask: ListAsk
  name: string
  rowHeight?: number
  choose?: boolean
  /** Open the first row by itself, so that the bench is never empty. */
  first?: boolean
  edge?: (row: R) => string
  empty: string
  emptyMessage?: string
}>()
const emit = defineEmits<{ open: [row: R]; sort: [key: string, down: boolean]; chosen: [ids: number[]]; act: [row: R] }>()
const active = defineModel<number | null>('active', { default: null })

const roomy = useMediaQuery('(min-width: 1180px)')
const shown = computed(() => props.columns.filter((column) => roomy.value || !column.wide))
const list = usePages<R>(props.path, toRef(props, 'ask'))
const box = ref<HTMLElement | null>(null)
const cursor = ref(0)
const picked = ref(new Set<number>())
const height = computed(() => props.rowHeight ?? 44)
const virtual = useVirtualizer(
  computed(() => ({
    count: list.total.value ?? 0,
    getScrollElement: () => box.value,
    estimateSize: () => height.value,
    overscan: 8,
    scrollPaddingStart: 32,
  })),
)
const items = computed(() => virtual.value.getVirtualItems())
const before = computed(() => items.value[0]?.start ?? 0)
const after = computed(() => virtual.value.getTotalSize() - (items.value.at(-1)?.end ?? 0))

watch(items, (now) => now.length && list.see(now[0]!.index, now.at(-1)!.index))
// A list that moves takes the cursor with its row, so that no key acts on another one.
let held: number | null = null
watch(cursor, (now) => (held = list.at(now)?.id ?? held), { flush: 'sync' })
function follow() {
  if (held === null || list.state.old || list.at(cursor.value)?.id === held) return
  const at = list.placeOf((row) => row.id === held)
  if (at === null) held = list.at(cursor.value)?.id ?? null
  else cursor.value = at
}
watch(list.rows, () => {
  follow()
  const row = list.at(0)
  if (props.first && row && active.value === null && cursor.value === 0 && !closed.value) active.value = held = row.id
})
const closed = ref(false)
// Other rows are asked for: the bench goes to the first of them, and does not stay with one that is not there.
let anew = false
watch(active, (now) => {
  closed.value = now === null && !anew
  anew = false
})
watch(
  () => props.ask,
  () => {
    closed.value = false
    if (props.first && active.value !== null) {
      anew = true
      active.value = null
    }
    held = null
    cursor.value = 0
    picked.value = new Set()
    emit('chosen', [])
  },
)

function go(to: number, extend = false) {
  const last = (list.total.value ?? 1) - 1
  cursor.value = Math.max(0, Math.min(to, last))
  virtual.value.scrollToIndex(cursor.value)
  const row = list.at(cursor.value)
  if (row && extend && props.choose) pick(row, true)
  if (row && active.value !== null) open(row)
}
function open(row: R) {
  active.value = row.id
  emit('open', row)
}
function pick(row: R, on?: boolean) {
  const next = new Set(picked.value)
  if (on ?? !next.has(row.id)) next.add(row.id)
  else next.delete(row.id)
  picked.value = next
  emit('chosen', [...next])
}
function click(index: number, row: R, event: MouseEvent) {
  if (event.shiftKey && props.choose) {
    const [from, to] = [Math.min(cursor.value, index), Math.max(cursor.value, index)]
    void range(from, to)
    return
  }
  cursor.value = index
  held = row.id
  open(row)
}
/** Choose a stretch, both ends in, whether its rows have been shown or not: the server names them. */
async function range(from: number, to = -1) {
  const asked = props.ask
  try {
    const more = await list.ids(from, to)
    if (asked !== props.ask) return
    picked.value = new Set([...picked.value, ...more])
    emit('chosen', [...picked.value])
  } catch (problem) {
    tell(wordsOf(problem), true)
  }
}
const current = () => list.at(cursor.value)
useKeys(props.name, [
  { key: 'j', message: 'next row', run: () => go(cursor.value + 1) },
  { key: 'arrowdown', message: 'next row', run: () => go(cursor.value + 1) },
  { key: 'k', message: 'row before', run: () => go(cursor.value - 1) },
  { key: 'arrowup', message: 'row before', run: () => go(cursor.value - 1) },
  { key: 'shift+arrowdown', message: 'choose more rows', run: () => go(cursor.value + 1, true) },
  { key: 'enter', message: 'see why', run: () => current() && open(current()!) },
  { key: 'a', message: 'do the best step', run: () => current() && emit('act', current()!) },
  ...(props.choose
    ? [
        {
          key: ' ',
          message: 'choose the row',
          run: () => {
            const row = current()
            if (row) pick(row)
          },
        },
      ]
    : []),
])
function toggleSort(column: Column) {
  if (column.sort === false) return
  const key = column.sort ?? column.key
  emit('sort', key, props.ask.sort === key ? !props.ask.down : false)
}
function clear() {
  picked.value = new Set()
  emit('chosen', [])
}
/** A row that has been seen, by its number. */
const rowOf = (id: number) => list.find((row) => row.id === id)
defineExpose({ rowOf, refresh: list.refresh, total: list.total, clear, go, first: () => list.at(0) })
const cell = (row: object, key: string): unknown => (row as Record<string, unknown>)[key]
</script>

<template>
  <div class="sheet flex min-h-0 flex-1 flex-col overflow-hidden">
    <div ref="box" class="min-h-0 flex-1 overflow-auto" tabindex="0" :aria-label="`${name}, ${list.total.value ?? 0} rows`">
      <table
        class="w-full table-fixed"
        :class="list.state.old ? 'opacity-50' : ''"
        :aria-busy="list.state.old || list.total.value === null"
      >
        <colgroup>
          <col v-if="choose" style="width: 38px" />
          <col v-for="column in shown" :key="column.key" :style="{ width: column.width }" />
        </colgroup>
        <thead class="sticky top-0 z-10 bg-sheet">
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th v-if="choose"><span class="sr-only">Chosen</span></th>
            <th
              v-for="column in shown"
              :key="column.key"
              scope="col"
              class="px-2.5"
              :class="column.right ? 'text-right' : ''"
              :aria-sort="ask.sort === (column.sort || column.key) ? (ask.down ? 'descending' : 'ascending') : undefined"
            >
              <button
                v-if="column.sort !== false"
                type="button"
                class="max-w-full truncate font-semibold hover:text-ink"
                @click="toggleSort(column)"
              >
                {{ column.label
                }}<span v-if="ask.sort === (column.sort ?? column.key)" class="ml-1" aria-hidden="true">{{ ask.down ? '↓' : '↑' }}</span>
              </button>
              <template v-else>{{ column.label }}</template>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-if="before" aria-hidden="true" :style="{ height: `${before}px` }">
            <td :colspan="shown.length + (choose ? 1 : 0)" />
          </tr>
          <template v-for="item in items" :key="item.index">
            <tr
              v-if="list.at(item.index)"
              class="cursor-default border-b border-rule-2"
              :style="{ height: `${height}px` }"
              :class="[
                cursor === item.index ? 'bg-shade' : 'hover:bg-shade/60',
                picked.has(list.at(item.index)!.id) ? 'bg-pine-wash/60' : '',
              ]"
              :aria-selected="cursor === item.index"
              @mousedown.shift="choose && $event.preventDefault()"
              @click="click(item.index, list.at(item.index)!, $event)"
            >
              <td v-if="choose" class="relative pl-3">
                <span
                  v-if="cursor === item.index || edge?.(list.at(item.index)!)"
                  class="absolute inset-y-0 left-0 w-[3px]"
                  :class="cursor === item.index ? 'bg-asphalt' : edge?.(list.at(item.index)!)"
                  aria-hidden="true"
                />
                <input
                  type="checkbox"
                  class="size-3.5 accent-pine align-middle"
                  :checked="picked.has(list.at(item.index)!.id)"
                  :aria-label="`Choose row ${item.index + 1}`"
                  @click.stop="pick(list.at(item.index)!)"
                />
              </td>
              <td
                v-for="(column, n) in shown"
                :key="column.key"
                class="relative overflow-hidden px-2.5"
                :class="column.right ? 'text-right whitespace-nowrap' : ''"
              >
                <span
                  v-if="n === 0 && !choose && (cursor === item.index || edge?.(list.at(item.index)!))"
                  class="absolute inset-y-0 left-0 w-[3px]"
                  :class="cursor === item.index ? 'bg-asphalt' : edge?.(list.at(item.index)!)"
                  aria-hidden="true"
                />
                <slot :name="column.key" :row="list.at(item.index)!" :index="item.index">
                  <span class="block truncate">{{ cell(list.at(item.index)!, column.key) }}</span>
                </slot>
              </td>
            </tr>
            <tr v-else :style="{ height: `${height}px` }" class="border-b border-rule-2">
              <td :colspan="shown.length + (choose ? 1 : 0)" class="px-3"><span class="block h-2 w-1/3 rounded bg-rule-2" /></td>
            </tr>
          </template>
          <tr v-if="after > 0" aria-hidden="true" :style="{ height: `${after}px` }">
            <td :colspan="shown.length + (choose ? 1 : 0)" />
          </tr>
        </tbody>
      </table>
      <div v-if="list.state.error" role="alert" class="p-6 text-center text-brick">
        {{ list.state.error }} <button type="button" class="font-semibold text-slate underline" @click="list.refresh()">Try again</button>
      </div>
      <div v-else-if="list.total.value === null" aria-busy="true" data-sight="loading">
        <span class="sr-only">Loading</span>
        <template v-if="list.state.late">
          <p v-for="n in 8" :key="n" class="flex items-center border-b border-rule-2 px-3" :style="{ height: `${height}px` }">
            <span class="block h-2 rounded bg-rule-2" :style="{ width: `${[38, 55, 44, 61][n % 4]}%` }" />
          </p>
        </template>
      </div>
      <div v-else-if="list.total.value === 0 && !list.state.old" class="px-6 py-10 text-center">
        <p class="font-bold">{{ empty }}</p>
        <p v-if="ask.words" class="mt-1 text-soft">Nothing with “{{ ask.words }}” fits; take a word or a limit away.</p>
        <p v-else-if="emptyMessage" class="mt-1 text-soft">{{ emptyMessage }}</p>
        <slot name="empty" />
      </div>
    </div>
    <div
      v-if="choose && picked.size && (list.total.value ?? 0) > 1"
      class="flex shrink-0 items-center gap-3 border-t border-rule bg-shade px-3 py-1 text-xs"
    >
      <span
        ><b>{{ count(picked.size) }}</b> of {{ count(list.total.value ?? 0) }} chosen</span
      >
      <button v-if="picked.size < (list.total.value ?? 0)" type="button" class="font-semibold text-slate hover:underline" @click="range(0)">
        Choose all {{ count(list.total.value ?? 0) }} that fit
      </button>
      <button type="button" class="text-slate hover:underline" @click="clear">Choose none</button>
      <slot name="chosen" :ids="[...picked]" />
    </div>
    <slot name="foot" />
  </div>
</template>
