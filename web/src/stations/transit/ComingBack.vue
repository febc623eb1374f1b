<script setup lang="ts">
/** Goods on their way back from buyers, and those that nobody has looked at; each leads to its case. */
import { useQuery } from '@tanstack/vue-query'
import { computed, watch } from 'vue'
import RowTable from '@/parts/RowTable.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { dateOf, dayOf } from '@/parts/format'
import { useRowKeys } from '@/parts/rowKeys'
import { RETURNS, comingQuery } from './cases'

const emit = defineEmits<{ chosen: [id: number] }>()
const asked = useQuery(comingQuery())
const rows = computed(() => asked.data.value ?? [])
const active = useRowKeys('Coming back', 'return', () => rows.value.length)
watch([active, rows], () => emit('chosen', rows.value[active.value]?.case ?? 0), { immediate: true })
</script>

<template>
  <div class="sheet min-h-0 flex-1 overflow-auto">
    <Sight
      :of="asked"
      :lines="5"
      :empty="!rows.length"
      title="Nothing is on its way back"
      message="Let a buyer send something back in its case: it has a number, an address and, where a carrier makes one, a label."
    >
      <RowTable
        v-slot="{ one }"
        :heads="['Return and goods', 'Goes to', 'State', 'Last word']"
        :rows="rows"
        :key-of="(one) => one.id"
        :active="active"
        height="h-12"
        @choose="active = $event"
      >
        <th scope="row" class="max-w-64 px-2.5 font-normal">
          <span class="block truncate" :title="one.title">{{ one.units }} × {{ one.title }}</span
          ><span class="cell-2 block"
            ><span class="code">{{ one.number }}</span> · {{ one.buyer }}</span
          >
        </th>
        <td class="max-w-40 truncate px-2.5" :title="one.address">{{ one.to }}</td>
        <td class="px-2.5">
          <Tag :tone="RETURNS[one.state]?.tone">{{ RETURNS[one.state]?.label }}</Tag><span class="cell-2 block">{{
            one.arrived_at ? `here since ${dateOf(one.arrived_at)}` : `to be sent until ${dayOf(one.send_by)}`
          }}</span>
        </td>
        <td class="max-w-48 truncate px-2.5" :title="one.last_word">
          {{ one.last_word || (one.tracking ? 'nothing yet' : 'no number known') }}<span class="cell-2 code block">{{ one.tracking }}</span>
        </td>
      </RowTable>
    </Sight>
  </div>
</template>
