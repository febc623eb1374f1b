<script setup lang="ts">
/** Loads to depots: those that come, and those that came; beside them the chosen one in full. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import type { Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import RowTable from '@/parts/RowTable.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { count, dateOf, plural } from '@/parts/format'
import { useRowKeys } from '@/parts/rowKeys'
import LoadBench from './LoadBench.vue'
import NewLoad from './NewLoad.vue'
import { LOAD_WORDS, loadsQuery, type Load } from './depot'

defineProps<{ of: Schema<'DepotView'> }>()
const route = useRoute()
const asked = useQuery(loadsQuery())
const rows = computed(() => asked.data.value ?? [])
const making = ref(false)
const active = useRowKeys('Loads', 'load', () => rows.value.length, [
  { key: 'n', message: 'put a load together', run: () => (making.value = true) },
])
const row = computed<Load | undefined>(() => rows.value[active.value])
watch(
  () => [route.query.load, rows.value.length],
  () => {
    const at = rows.value.findIndex((one) => String(one.id) === route.query.load)
    if (at >= 0) active.value = at
  },
  { immediate: true },
)
const TONES: Record<string, 'waits' | 'good' | 'loss' | 'info' | 'plain'> = {
  planned: 'waits',
  ordered: 'info',
  on_the_way: 'info',
  at_gate: 'info',
  counted: 'good',
  refused: 'loss',
  cancelled: 'plain',
}
const made = (id: number) => {
  making.value = false
  void asked.refetch().then(
    () =>
      (active.value = Math.max(
        rows.value.findIndex((one) => one.id === id),
        0,
      )),
  )
}
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)_400px] max-[1180px]:grid-cols-[minmax(0,1fr)_340px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5">
      <div class="flex items-center gap-3">
        <p class="min-w-0 text-soft">Each is bought once with the depot as address, or sent by you; cartons carry numbers of their own.</p>
        <span class="ml-auto" /><Btn hint="N" :disabled="!of.rows.length" @click="making = true">Put a load together</Btn>
      </div>
      <div class="sheet min-h-0 overflow-auto">
        <Sight
          :of="asked"
          :lines="6"
          :empty="!rows.length"
          title="No load yet"
          message="Order what stock ahead proposes, or put a load together from goods that the depot will hold."
        >
          <RowTable
            v-slot="{ one }"
            :heads="['Load', 'From, to', 'Cartons', 'Units', 'Due', 'State']"
            :right="[2, 3]"
            :rows="rows"
            :key-of="(one) => one.id"
            :active="active"
            @choose="active = $event"
          >
            <th scope="row" class="px-2.5">
              <span class="code font-semibold">{{ one.reference }}</span>
            </th>
            <td class="max-w-72 truncate px-2.5">{{ one.own ? 'ourselves' : one.sender }} → {{ one.depot }}</td>
            <td class="px-2.5 text-right">{{ count(one.cartons.length) }}</td>
            <td class="px-2.5 text-right">{{ count(one.units) }}</td>
            <td class="px-2.5 whitespace-nowrap">{{ one.state === 'counted' ? '' : one.due ? dateOf(one.due) : '–' }}</td>
            <td class="px-2.5 whitespace-nowrap">
              <Tag :tone="TONES[one.state] ?? 'plain'">{{ LOAD_WORDS[one.state] }}</Tag><Tag v-if="one.open" tone="waits" class="ml-1"
                >{{ plural(one.open, 'line') }} to settle</Tag
              >
            </td>
          </RowTable>
        </Sight>
      </div>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="The load">
      <LoadBench v-if="row" :key="row.id" :load="row" />
      <p v-else class="text-soft">Choose a load to see its cartons, its papers and what was counted.</p>
    </aside>
    <NewLoad v-if="making" :of="of" @close="making = false" @made="made" />
  </div>
</template>
