<script setup lang="ts">
/** What somebody did in the last days: of each kind how much, and how much of it was taken back. */
import type { Schema } from '@/api/client'
import RowTable from '@/parts/RowTable.vue'
import { count, plural } from '@/parts/format'

defineProps<{ of: Schema<'WorkOut'> }>()
</script>

<template>
  <div>
    <p v-if="!of.rows.length && !of.lanes_opened" class="text-soft">Nothing in the last {{ plural(of.days, 'day') }}.</p>
    <RowTable
      v-if="of.rows.length"
      v-slot="{ one }"
      :heads="[`In the last ${of.days} days`, 'Times', 'Things', 'Taken back since']"
      :right="[1, 2, 3]"
      :rows="of.rows"
      :key-of="(one) => one.name"
      height="h-9"
    >
      <td class="px-2.5 first-letter:uppercase">{{ one.name }}</td>
      <td class="px-2.5 text-right">{{ count(one.acts) }}</td>
      <td class="px-2.5 text-right font-semibold">{{ count(one.count) }}</td>
      <td class="px-2.5 text-right">{{ one.undone ? count(one.undone) : '–' }}</td>
    </RowTable>
    <p v-if="of.lanes_opened" class="mt-2 text-soft">
      Of {{ plural(of.lanes_opened, 'lane') }} opened in these days,
      {{ of.lanes_wrong ? `${count(of.lanes_wrong)} ${of.lanes_wrong === 1 ? 'was' : 'were'}` : 'none was' }} found wrong since.
    </p>
  </div>
</template>
