<script setup lang="ts">
/** What a lane promised and what happened: counts with the interval that the next one is expected in. */
import type { Schema } from '@/api/client'

defineProps<{ trust: Schema<'TrustOut'>; low: number; high: number }>()
const ROWS = [
  { key: 'accepted', name: 'Taken' },
  { key: 'on_time', name: 'In time' },
] as const
const span = (one: Schema<'ShareOut'>) =>
  one.low > 99 ? 'over 99 %' : `${Math.round(one.low)} to ${Math.min(Math.round(one.high), one.high < 100 ? 99 : 100)} %`
</script>

<template>
  <table class="w-full table-fixed">
    <colgroup>
      <col style="width: 22%" />
      <col style="width: 24%" />
      <col />
      <col style="width: 24%" />
    </colgroup>
    <thead>
      <tr class="h-7 border-b border-rule text-2xs text-soft">
        <th>What</th>
        <th class="text-right">Happened</th>
        <th class="w-28 px-2">Expect</th>
        <th class="text-right"><span class="sr-only">interval</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in ROWS" :key="one.key" class="h-7 border-b border-rule-2">
        <td>{{ one.name }}</td>
        <td class="text-right whitespace-nowrap">
          <template v-if="trust[one.key].count"
            ><b>{{ trust[one.key].good }}</b> of {{ trust[one.key].count }}</template
          ><span v-else class="text-soft">none yet</span>
        </td>
        <td class="px-2">
          <span class="relative block h-2 rounded-full bg-rule-2" aria-hidden="true"
            ><span
              class="absolute inset-y-0 rounded-full bg-slate/40"
              :style="{ left: `${trust[one.key].low}%`, right: `${100 - trust[one.key].high}%` }" /><span
              class="absolute -inset-y-0.5 w-0.5 bg-slate"
              :style="{ left: `${trust[one.key].mean}%` }"
          /></span>
        </td>
        <td class="text-right whitespace-nowrap text-soft">
          {{ span(trust[one.key]) }}
        </td>
      </tr>
      <tr class="h-7">
        <td>Days</td>
        <td class="text-right whitespace-nowrap">
          <template v-if="trust.days_sure"
            >half in <b>{{ trust.days_usual }}</b></template
          ><span v-else class="text-soft">none yet</span>
        </td>
        <td class="px-2 whitespace-nowrap" colspan="2">
          <template v-if="trust.days_sure"
            >nine in ten in <b :class="trust.days_sure > high ? 'text-brick' : ''">{{ trust.days_sure }}</b></template
          ><span class="float-right text-soft">said {{ low }} to {{ high }}</span>
        </td>
      </tr>
    </tbody>
  </table>
</template>
