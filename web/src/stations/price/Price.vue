<script setup lang="ts">
import { computed } from 'vue'
import Pills from '@/parts/Pills.vue'
import { useAsk } from '@/parts/ask'
import Fees from './Fees.vue'
import Listings from './Listings.vue'
import Plans from './Plans.vue'
import Replay from './Replay.vue'
import WhatIf from './WhatIf.vue'

const { set, text } = useAsk(() => '')
const view = computed(() => text('view') || (text('words') ? 'listings' : 'rules'))
const VIEWS = [
  { key: 'rules', label: 'Rules and what if' },
  { key: 'listings', label: 'Every listing and why' },
  { key: 'replay', label: 'Replay the past' },
  { key: 'fees', label: 'Store fees and rates' },
  { key: 'plans', label: 'Is a plan worth it' },
]
</script>

<template>
  <div class="flex h-full flex-col">
    <div class="border-b border-rule px-4.5 py-2.5">
      <Pills
        :options="VIEWS"
        :chosen="view"
        label="Views of Price"
        @choose="set({ view: $event, words: undefined, sort: undefined, down: undefined })"
      />
    </div>
    <Listings v-if="view === 'listings'" class="min-h-0 flex-1" />
    <Fees v-else-if="view === 'fees'" class="min-h-0 flex-1" />
    <Plans v-else-if="view === 'plans'" class="min-h-0 flex-1" />
    <Replay v-else-if="view === 'replay'" class="min-h-0 flex-1" />
    <WhatIf v-else class="min-h-0 flex-1" />
  </div>
</template>
