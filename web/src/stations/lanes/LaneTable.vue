<script setup lang="ts">
import { api, take, type Schema } from '@/api/client'
import { may } from '@/app/may'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import LaneGlyph from '@/parts/LaneGlyph.vue'
import Tag from '@/parts/Tag.vue'
import { dayOf, money } from '@/parts/format'
import { useOf } from './words'

defineProps<{ lanes: Schema<'LaneOut'>[] }>()
const emit = defineEmits<{ open: [lane: number] }>()
type Lane = Schema<'LaneOut'>
const change = (lane: Lane, body: { use?: number; state?: string }) =>
  act(() =>
    take(
      api.PATCH('/api/v1/lanes/{number}', { params: { path: { number: lane.id } }, body: { version: lane.version, reason: '', ...body } }),
    ),
  )
const close = (lane: Lane) =>
  act(() =>
    take(api.POST('/api/v1/lanes/{number}/close', { params: { path: { number: lane.id } }, body: { version: lane.version, reason: '' } })),
  )
const confirm = (lane: Lane) =>
  act(() => take(api.POST('/api/v1/lanes/{number}/confirm', { params: { path: { number: lane.id } }, body: { version: lane.version } })))
</script>

<template>
  <div class="sheet overflow-hidden">
    <table class="w-full table-fixed">
      <colgroup>
        <col style="width: 74px" />
        <col style="width: 22%" />
        <col />
        <col style="width: 66px" />
        <col style="width: 58px" />
        <col style="width: 58px" />
        <col style="width: 70px" />
        <col style="width: 84px" />
        <col style="width: 152px" />
      </colgroup>
      <thead>
        <tr class="h-8 border-b border-rule text-2xs text-soft">
          <th class="px-3">Use</th>
          <th class="px-2">Lane</th>
          <th class="px-2">Items and units</th>
          <template v-if="may('see money')">
            <th class="px-2 text-right">Items</th>
            <th class="px-2 text-right">Ship</th>
            <th class="px-2 text-right">Pack</th>
            <th class="px-2 text-right">Landed</th>
          </template>
          <th v-else class="px-2" colspan="4" />
          <th class="px-2 text-right">On time</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <template v-for="lane in lanes" :key="lane.id">
          <tr class="h-11" :class="lane.state === 'shut' ? '' : 'border-b border-rule-2 last:border-0'">
            <td class="px-3 whitespace-nowrap" :class="lane.use ? '' : 'font-bold'">{{ useOf(lane.use, lane.instead) }}</td>
            <td class="px-2">
              <button type="button" class="flex max-w-full items-center gap-2 font-semibold hover:underline" @click="emit('open', lane.id)">
                <LaneGlyph :state="lane.begun ? lane.state : 'shut'" :use="lane.use" /><span class="truncate">{{
                  lane.supplier
                }}</span></button
              ><span class="cell-2 block truncate"
                >{{ lane.origin }}, {{ lane.service }}, {{ lane.days_low }} to {{ lane.days_high }} days; {{ lane.state
                }}<Tag v-if="lane.store" class="ml-1">{{ lane.store }} alone</Tag
                ><Tag v-if="!lane.begun && lane.starts" tone="info" class="ml-1">from {{ dayOf(lane.starts) }}</Tag
                ><Tag v-if="lane.ends" tone="info" class="ml-1">until {{ dayOf(lane.ends) }}</Tag></span
              >
            </td>
            <td class="px-2">
              <span v-for="part in lane.parts" :key="part.item_id" class="block truncate" :title="`${part.title}, ${part.supplier}`"
                ><span class="code">{{ part.units }} × {{ part.number }}</span
                ><span v-if="lane.parts.length > 1 && part.supplier !== lane.supplier" class="ml-1.5 text-soft">{{
                  part.supplier
                }}</span></span
              >
            </td>
            <template v-if="lane.landed">
              <td class="px-2 text-right">{{ money(lane.item_cost) }}</td>
              <td class="px-2 text-right">{{ money(lane.ship) }}</td>
              <td class="px-2 text-right">{{ money(lane.handling) }}</td>
              <td class="px-2 text-right font-bold">{{ money(lane.landed) }}</td>
            </template>
            <td v-else colspan="4" class="px-2 text-right text-brick">{{ lane.reason_not }}</td>
            <td class="px-2 text-right whitespace-nowrap" title="parcels by the promise, of those decided">
              <template v-if="lane.trust.on_time.count"
                >{{ Math.round((100 * lane.trust.on_time.good) / lane.trust.on_time.count) }} % of {{ lane.trust.on_time.count }}</template
              ><span v-else class="text-soft">none yet</span>
            </td>
            <td class="px-2 text-right whitespace-nowrap">
              <Btn v-if="lane.use && !lane.instead && lane.state !== 'shut'" small @click="change(lane, { use: 0 })">Make main</Btn>
              <Btn v-else-if="lane.state !== 'shut'" small @click="change(lane, { state: 'shut' })">Shut</Btn>
              <Btn v-else small @click="confirm(lane)">It is right</Btn>
              <Btn class="ml-1" small @click="close(lane)">Close</Btn>
            </td>
          </tr>
          <tr v-if="lane.state === 'shut'" class="border-b border-rule-2 last:border-0">
            <td />
            <td colspan="8" class="px-2 pb-2 text-brick">{{ lane.reason }}</td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>
</template>
