<script setup lang="ts">
/** Which days are looked at, beside which others, and what they are narrowed down to. */
import { computed } from 'vue'
import { PERIODS, useBooks } from './books'

defineProps<{ alone?: boolean }>()
const { set, text, period, days, against, only } = useBooks()
const narrowed = computed(() => only.value.split(';').filter(Boolean))
const without = (one: string) => narrowed.value.filter((other) => other !== one).join(';')
const own = (name: 'from' | 'to', value: string) =>
  set({ period: 'own', from: days.value.first, to: days.value.last, [name]: value || undefined })
const name = (one: string) => text('named') || one.replace(':', ' ')
</script>

<template>
  <div class="flex flex-wrap items-center gap-2">
    <select
      class="field w-36!"
      aria-label="Which days"
      :value="period"
      @change="
        set({
          period: ($event.target as HTMLSelectElement).value,
          from: days.first,
          to: days.last,
        })
      "
    >
      <option v-for="one in PERIODS" :key="one.key" :value="one.key">{{ one.label }}</option>
    </select>
    <template v-if="period === 'own'">
      <input
        type="date"
        class="field w-36!"
        aria-label="From"
        :value="days.first"
        @change="own('from', ($event.target as HTMLInputElement).value)"
      />
      <input
        type="date"
        class="field w-36!"
        aria-label="To"
        :value="days.last"
        @change="own('to', ($event.target as HTMLInputElement).value)"
      />
    </template>
    <template v-if="!alone">
      <span class="text-soft">against</span>
      <select
        class="field w-40!"
        aria-label="Against which days"
        :value="against"
        @change="set({ against: ($event.target as HTMLSelectElement).value === 'year' ? 'year' : undefined })"
      >
        <option value="before">the time before</option>
        <option value="year">the same last year</option>
      </select>
    </template>
    <button
      v-for="one in narrowed"
      :key="one"
      type="button"
      class="h-7 max-w-64 truncate rounded bg-asphalt px-2.5 text-xs font-semibold text-sheet"
      :aria-label="`Do not narrow down to ${name(one)}`"
      @click="set({ only: without(one) || undefined, named: undefined })"
    >
      only {{ name(one) }} ✕
    </button>
    <slot />
  </div>
</template>
