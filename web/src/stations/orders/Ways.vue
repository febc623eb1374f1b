<script setup lang="ts">
/** The lanes of an order side by side, line by line: what each costs, when it arrives, what it earns, and which is the next best. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import LaneGlyph from '@/parts/LaneGlyph.vue'
import Tag from '@/parts/Tag.vue'
import { REASON_WORDS, dateOf, money, number, percent } from '@/parts/format'

// over: what was chosen is bought already, so nothing can be chosen any more.
const props = defineProps<{ order: Schema<'OrderOut'>; over?: boolean }>()
defineEmits<{ choose: [way: Schema<'WayOut'>]; give: [line: number] }>()
const line = (id: number) => props.order.lines.find((one) => one.id === id)
const rows = computed(() => props.order.ways)
/** What the risk of a lane is made of, for those who ask. */
function risk(way: Schema<'WayOut'>): string {
  const message = []
  if (way.refused_ppm) message.push(`${percent(way.refused_ppm / 1e4)} refused`)
  if (way.claim_ppm) message.push(`${percent(way.claim_ppm / 1e4)} of the goods lost on claims`)
  if (way.late_ppm) message.push(`${percent(way.late_ppm / 1e4)} late`)
  return message.length ? `its chance: ${message.join(', ')}` : 'nothing is known against it'
}
</script>

<template>
  <table class="w-full">
    <thead>
      <tr class="h-7 text-2xs text-soft">
        <th class="px-3.5">Lane</th>
        <th class="px-2 text-right">Item</th>
        <th class="px-2 text-right">Ship</th>
        <th class="px-2 text-right">Pack</th>
        <th class="px-2 text-right" title="Chance of refusal and lateness times what they cost">Risk</th>
        <th class="px-2 text-right">All in</th>
        <th class="px-2 text-right">Arrives</th>
        <th class="px-2 text-right" title="Of this line, with a parcel to itself, as it was planned">Expected</th>
        <th class="px-3.5" />
      </tr>
    </thead>
    <tbody>
      <tr
        v-for="way in rows"
        :key="`${way.line}-${way.lane}`"
        class="h-10 border-t border-rule-2"
        :class="way.chosen ? 'bg-shade' : way.reason ? 'text-soft' : ''"
      >
        <td class="max-w-0 px-3.5" style="width: 34%">
          <span class="flex items-center gap-2"
            ><LaneGlyph :state="way.state" :use="way.use" /><b class="truncate" :title="way.supplier">{{ way.supplier }}</b></span
          ><span class="block truncate text-xs text-soft"
            >{{ way.origin }}; {{ way.instead ? 'replacement' : way.use ? `spare ${way.use}` : 'main lane'
            }}<template v-if="order.lines.length > 1"> for {{ line(way.line)?.sku }}</template
            ><span v-if="way.reason" class="text-brick">; {{ REASON_WORDS[way.reason] ?? way.reason }}</span></span
          >
        </td>
        <td class="px-2 text-right">{{ money(way.goods) }}</td>
        <td class="px-2 text-right">{{ way.arrives ? money(way.shipping) : '–' }}</td>
        <td class="px-2 text-right">{{ way.arrives ? money(way.handling) : '–' }}</td>
        <td class="px-2 text-right" :title="risk(way)">{{ way.arrives ? money(way.risk) : '–' }}</td>
        <td class="px-2 text-right font-bold">{{ way.arrives ? money(way.all_in) : '–' }}</td>
        <td class="px-2 text-right whitespace-nowrap">{{ way.arrives ? dateOf(way.arrives) : '–' }}</td>
        <td
          class="px-2 text-right font-bold whitespace-nowrap"
          :class="way.reason ? '' : number(way.profit) < 0 ? 'text-brick' : 'text-pine'"
        >
          {{ way.arrives ? money(way.profit, true) : '–' }}
        </td>
        <td class="px-3.5 text-right whitespace-nowrap">
          <template v-if="way.chosen">
            <Btn v-if="!over && line(way.line)?.chosen_by === 'person'" small @click="$emit('give', way.line)">Let the plan choose</Btn>
            <Tag v-else tone="good">{{ line(way.line)?.chosen_by === 'person' ? 'chosen by hand' : 'chosen' }}</Tag>
          </template>
          <Btn
            v-else-if="!way.reason && !over"
            small
            :title="way.costs_more ? `The next best: ${money(way.costs_more)} less profit of the order` : undefined"
            @click="$emit('choose', way)"
            >Fill by this{{ way.costs_more && number(way.costs_more) > 0 ? `, −${money(way.costs_more)}` : '' }}</Btn
          >
          <span v-else-if="way.costs_more && number(way.costs_more) > 0" class="text-xs text-soft"
            >next best, −{{ money(way.costs_more) }}</span
          >
        </td>
      </tr>
    </tbody>
  </table>
</template>
