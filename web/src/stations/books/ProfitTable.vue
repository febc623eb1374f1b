<script setup lang="ts">
/** Profit by a dimension, beside the other period; every number opens to the entries behind it. */
import { useMediaQuery } from '@vueuse/core'
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import { computed } from 'vue'
import type { Money, Schema } from '@/api/client'
import LeftOut from '@/parts/LeftOut.vue'
import Sight from '@/parts/Sight.vue'
import { count, money, number, percent, plural } from '@/parts/format'
import { BYS, profitQuery, useBooks, type Figures, type Number } from './books'

const props = defineProps<{ short?: boolean; longNames?: boolean; chosen?: Number | null }>()
const emit = defineEmits<{ open: [of: Number] }>()
const { set, text, by, query, only, hidden } = useBooks()
const sort = computed(() => text('sort') || (['day', 'week', 'month'].includes(by.value) ? 'name' : 'profit'))
const down = computed(() => (text('sort') ? text('down') === '1' : true))
const asked = useQuery(
  computed(() => ({
    ...profitQuery({ ...query.value, by: by.value, sort: sort.value, down: down.value, limit: 200 }),
    placeholderData: keepPreviousData,
  })),
)
const { data } = asked
const wide = useMediaQuery('(min-width: 1240px)')
interface Column {
  key: string
  label: string
  of?: (one: Schema<'ProfitRow'>) => Money
  plain?: (one: Schema<'ProfitRow'>) => string
}
const figure = (key: keyof Figures) => (one: Schema<'ProfitRow'>) => one.now[key] as Money
/** Shown only where there is something of it, so that each row adds up. */
const some = (key: 'other') => [...(data.value?.rows ?? []), data.value?.total].some((one) => one && number(one.now[key]) !== 0)
const all = computed<Column[]>(() => [
  { key: 'orders', label: 'Orders', plain: (one) => count(one.now.orders) },
  ...(wide.value && !props.short ? [{ key: 'units', label: 'Units', plain: (one: Schema<'ProfitRow'>) => count(one.now.units) }] : []),
  { key: 'net', label: 'Net revenue', of: figure('net') },
  { key: 'fees', label: 'Fees', of: figure('fees') },
  ...(wide.value && !props.short
    ? [
        { key: 'goods', label: 'Goods', of: figure('goods') },
        { key: 'sending', label: 'Sending', of: figure('sending') },
      ]
    : [
        { key: 'goods', label: 'Goods', of: figure('goods') },
        { key: 'sending', label: 'Sending', of: figure('sending') },
      ]),
  { key: 'refunds', label: 'Refunds', of: figure('refunds') },
  ...(some('other') ? [{ key: 'other', label: 'Other', of: figure('other') }] : []),
  ...(text('planned') ? [{ key: 'planned', label: 'Planned', of: figure('planned') }] : []),
  { key: 'profit', label: 'Profit', of: figure('profit') },
  ...(wide.value && !props.short
    ? [
        {
          key: 'margin',
          label: 'Margin',
          plain: (one: Schema<'ProfitRow'>) => percent(one.now.margin === null ? null : one.now.margin / 10_000),
        },
      ]
    : []),
  { key: 'change', label: 'Change', of: (one) => one.change },
])
/** Without those that were taken out of sight; what remains is a matter of the address, and of the export. */
const columns = computed(() => all.value.filter((one) => !hidden.value.has(one.key)))
function toggle(key: string) {
  set({ sort: key, down: sort.value === key && down.value ? undefined : '1' })
}
const OPENS = new Set(['net', 'fees', 'goods', 'sending', 'refunds', 'other', 'profit'])
/** Narrow down to a row; times are no filter. */
const FILTERS = new Set(['supplier', 'sku', 'store', 'category', 'country', 'item', 'artwork'])
function narrow(row: Schema<'ProfitRow'>) {
  const value = by.value === 'category' || by.value === 'country' ? row.code : String(row.key)
  const next = by.value === 'sku' ? 'day' : 'sku'
  set({ only: [only.value, `${by.value}:${value}`].filter(Boolean).join(';'), named: only.value ? undefined : row.name, by: next })
}
const shade = (row: Schema<'ProfitRow'>, key: string) =>
  props.chosen?.key === row.key && props.chosen.figure === key ? 'bg-asphalt text-sheet' : ''
const tone = (column: Column, one: Schema<'ProfitRow'>) => {
  const value = column.of ? number(column.of(one)) : 0
  return (column.key === 'change' || column.key === 'profit') && value < 0 ? 'text-brick' : ''
}
const label = computed(() => BYS.find((one) => one.key === by.value)?.label ?? '')
const lines = computed(() => [...(data.value?.rows ?? []), ...(data.value ? [{ ...data.value.total, name: 'All', key: -1 }] : [])])
</script>

<template>
  <div class="sheet min-h-0 overflow-auto">
    <Sight
      :of="asked"
      :lines="6"
      :empty="!data?.rows.length"
      title="Nothing was bought in these days"
      message="A sale counts from the moment it is bought from its supplier. Choose other days above."
    >
      <table class="w-full" :class="short ? '[&_td]:px-1.5! [&_th]:px-1.5! [&_th:first-child]:pl-2.5! [&_td:last-child]:pr-2.5!' : ''">
        <thead class="sticky top-0 z-10 bg-sheet">
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th class="px-2.5">
              <button type="button" class="font-semibold" @click="toggle('name')">
                {{ label }}{{ sort === 'name' ? (down ? ' ↓' : ' ↑') : '' }}
              </button>
            </th>
            <th
              v-for="one in columns"
              :key="one.key"
              class="px-2.5 text-right whitespace-nowrap"
              :aria-sort="sort === one.key ? (down ? 'descending' : 'ascending') : undefined"
            >
              <button type="button" class="font-semibold" @click="toggle(one.key)">
                {{ one.label }}{{ sort === one.key ? (down ? ' ↓' : ' ↑') : '' }}
              </button>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in lines" :key="row.key" class="h-8 border-b border-rule-2" :class="row.key === -1 ? 'font-bold' : ''">
            <th
              scope="row"
              :class="longNames && !text('planned') ? 'max-w-46' : short ? 'max-w-36' : 'max-w-64'"
              class="truncate px-2.5"
              :title="row.name"
            >
              <span v-if="row.key === -1">All together, {{ plural(data!.count, 'row') }}</span>
              <RouterLink v-else-if="by === 'order' && row.key" class="font-normal hover:underline" :to="`/orders?state=all&row=${row.key}`"
                ><span class="code">{{ row.code }}</span> {{ row.name }}</RouterLink
              >
              <button
                v-else-if="FILTERS.has(by) && row.key"
                type="button"
                class="block max-w-full text-left hover:underline"
                @click="narrow(row)"
              >
                <span class="block truncate">{{ row.name }}</span><span
                  v-if="row.code && (by === 'sku' || by === 'item')"
                  class="code block font-normal text-soft"
                  >{{ row.code }}</span
                >
              </button>
              <span v-else>{{ row.name }}</span>
            </th>
            <td v-for="one in columns" :key="one.key" class="px-2.5 text-right whitespace-nowrap" :class="tone(one, row)">
              <button
                v-if="one.of && OPENS.has(one.key) && number(one.of(row))"
                type="button"
                class="-mr-1 rounded px-1 hover:bg-shade hover:text-ink"
                :class="[shade(row, one.key), one.key === 'profit' ? 'font-bold' : '']"
                :aria-label="`${one.label} of ${row.name}: ${money(one.of(row))}, what is behind it`"
                @click="
                  emit('open', { by, key: row.key === -1 ? undefined : row.key, figure: one.key, name: `${one.label} of ${row.name}` })
                "
              >
                {{ money(one.of(row)) }}
              </button>
              <template v-else>{{ one.of ? money(one.of(row), one.key === 'change') : one.plain!(row) }}</template>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="data && data.count > data.rows.length" class="px-2.5 py-1.5 text-xs text-soft">
        The first {{ count(data.rows.length) }} of {{ count(data.count) }}; the export has all of them.
      </p>
    </Sight>
    <div v-if="data?.left_out.length" class="px-2.5 pb-1.5"><LeftOut :of="data.left_out" /></div>
  </div>
</template>
