<script setup lang="ts">
/** The ways on of an order that waits: what each does, what the order would earn then, and when it would arrive. */
import { useRouter } from 'vue-router'
import type { Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import { dateOf, money, number } from '@/parts/format'

defineProps<{ ways: Schema<'WayOn'>[]; best?: string }>()
defineEmits<{ go: [key: string] }>()
const router = useRouter()
</script>

<template>
  <table class="w-full border-b border-rule-2" aria-label="Ways on">
    <tbody>
      <tr v-for="way in ways" :key="way.key + way.label" class="h-9 border-t border-rule-2 first:border-0">
        <td class="w-px px-3.5 whitespace-nowrap">
          <Btn
            v-if="way.key"
            small
            :kind="way.key === best ? 'main' : way.key === 'cancel' || way.key.startsWith('refund') ? 'loss' : 'plain'"
            :hint="way.key === best ? 'A' : undefined"
            @click="$emit('go', way.key)"
            >{{ way.label }}</Btn
          >
          <Btn v-else-if="way.go" small @click="router.push(way.go)">{{ way.label }}</Btn>
          <b v-else>{{ way.label }}</b>
        </td>
        <td class="max-w-0 truncate px-2 text-soft" style="width: 60%" :title="way.message">{{ way.message }}</td>
        <td class="px-2 text-right whitespace-nowrap">{{ way.arrives ? `arrives ${dateOf(way.arrives)}` : '' }}</td>
        <td class="px-3.5 text-right font-semibold whitespace-nowrap" :class="number(way.profit) < 0 ? 'text-brick' : ''">
          {{ way.profit ? money(way.profit, true) : '' }}
        </td>
      </tr>
    </tbody>
  </table>
</template>
