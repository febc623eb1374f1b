<script setup lang="ts">
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import { money, number, count } from '@/parts/format'

const props = defineProps<{ days: Schema<'Day'>[] }>()
const top = computed(() => Math.max(1, ...props.days.map((day) => Math.abs(number(day.profit)) + Math.max(number(day.expected), 0))))
const told = (day: Schema<'Day'>) =>
  `${day.day}: profit ${money(day.profit)} of ${money(day.sales)} sold` +
  (number(day.expected) ? `; ${money(day.expected)} more expected of orders that are ready` : '')
</script>

<template>
  <ol class="mt-3 flex h-32 items-end gap-2" aria-label="Profit by day">
    <li v-for="(day, i) in days" :key="day.day" class="flex h-full flex-1 flex-col justify-end text-center" :title="told(day)">
      <span class="text-2xs">{{ number(day.profit) ? count(Math.round(number(day.profit))).replace('-', '−') : '' }}</span>
      <span
        v-if="number(day.expected) > 0"
        class="block w-full border border-b-0 border-dashed border-pine"
        :style="{ height: `${(number(day.expected) / top) * 82}px` }"
      />
      <span
        class="block w-full"
        :class="[number(day.profit) < 0 ? 'bg-brick' : 'bg-pine', i === days.length - 1 ? 'opacity-50' : '']"
        :style="{ height: `${(Math.abs(number(day.profit)) / top) * 82}px` }"
      />
      <span class="mt-1 text-2xs text-soft">{{ Number(day.day.slice(8)) }}</span>
    </li>
  </ol>
</template>
