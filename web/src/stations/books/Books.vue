<script setup lang="ts">
/** Books: profit as it happens, why it changed, what to do more of, what stores and suppliers really took. */
import { computed } from 'vue'
import Pills from '@/parts/Pills.vue'
import { live } from '@/app/live'
import Costs from './Costs.vue'
import Earning from './Earning.vue'
import Partners from './Partners.vue'
import Profit from './Profit.vue'
import Settled from './Settled.vue'
import Why from './Why.vue'
import { useBooks } from './books'

const { set, text } = useBooks()
const view = computed(() => text('view') || 'why')
const waits = computed(() => live.pulse.value?.counts['books'] ?? 0)
const views = computed(() => [
  { key: 'why', label: 'Why it changed' },
  { key: 'profit', label: 'Profit' },
  { key: 'earning', label: 'Do more, do less' },
  { key: 'partners', label: 'Suppliers and stores' },
  { key: 'settled', label: 'Paid out and billed', count: waits.value, waits: true },
  { key: 'costs', label: 'Fixed costs, months, tax' },
])
</script>

<template>
  <div class="flex h-full flex-col">
    <div class="border-b border-rule px-4.5 py-2.5">
      <Pills
        :options="views"
        :chosen="view"
        label="Views of Books"
        @choose="set({ view: $event, by: undefined, sort: undefined, down: undefined, group: undefined })"
      />
    </div>
    <Profit v-if="view === 'profit'" class="min-h-0 flex-1" />
    <Earning v-else-if="view === 'earning'" class="min-h-0 flex-1" />
    <Partners v-else-if="view === 'partners'" class="min-h-0 flex-1" />
    <Settled v-else-if="view === 'settled'" class="min-h-0 flex-1" />
    <Costs v-else-if="view === 'costs'" class="min-h-0 flex-1" />
    <Why v-else class="min-h-0 flex-1" />
  </div>
</template>
