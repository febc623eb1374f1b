<script setup lang="ts">
/** Two orders that may be one, side by side. */
import type { Schema } from '@/api/client'
import When from '@/parts/When.vue'
import { STATE_WORDS, money } from '@/parts/format'

defineProps<{ order: Schema<'OrderOut'> }>()
</script>

<template>
  <div v-if="order.twin" class="grid grid-cols-2 border-b border-rule-2" aria-label="Perhaps ordered twice">
    <div class="border-r border-rule-2 px-3.5 py-2">
      <p class="text-xs text-soft">This one, <When :at="order.ordered_at" clock /></p>
      <p class="font-semibold">Order {{ order.number }}</p>
      <p v-for="one in order.lines" :key="one.id" class="truncate" :title="one.title">{{ one.quantity }} × {{ one.title || one.sku }}</p>
    </div>
    <div class="px-3.5 py-2">
      <p class="text-xs text-soft">
        The other, <When :at="order.twin.ordered_at" clock />, {{ (STATE_WORDS[order.twin.state] ?? order.twin.state).toLowerCase() }},
        {{ money(order.twin.paid) }} paid
      </p>
      <RouterLink class="font-semibold text-slate hover:underline" :to="`/orders?state=all&row=${order.twin.id}`"
        >Order {{ order.twin.number }}</RouterLink
      >
      <p v-for="one in order.twin.lines" :key="one" class="truncate" :title="one">{{ one }}</p>
      <p v-if="order.twin.saves" class="text-pine">One parcel for both would save {{ money(order.twin.saves) }}</p>
    </div>
  </div>
</template>
