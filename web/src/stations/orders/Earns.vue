<script setup lang="ts">
/** What an order leaves: what is expected before it is bought, what its bills leave after, with what was planned beside it. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import { money, number, plural } from '@/parts/format'

const props = defineProps<{ order: Schema<'OrderOut'>; known: boolean }>()
const message = computed(() => {
  const { actual, planned, profit, risk, unbilled } = props.order
  if (!actual) return number(risk) ? `a refusal or a late parcel may cost ${money(risk)} of it` : ''
  const parts = []
  if (planned && profit && planned.amount !== profit.amount) parts.push(`planned ${money(planned, true)}`)
  if (unbilled) parts.push(`${plural(unbilled, 'bill')} still to come`)
  return parts.join(', ')
})
</script>

<template>
  <span class="text-xs text-soft"
    >{{ order.actual ? 'profit' : 'expected profit' }}
    <b :class="number(order.profit) < 0 ? 'text-brick' : 'text-pine'">{{ known ? money(order.profit, true) : 'not known yet' }}</b><template
      v-if="known && message"
      >; {{ message }}</template
    ></span
  >
</template>
