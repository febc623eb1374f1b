<script setup lang="ts">
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/told'
import Btn from '@/parts/Btn.vue'
import LaneGlyph from '@/parts/LaneGlyph.vue'
import { money } from '@/parts/format'

defineProps<{ lanes: Schema<'LaneOut'>[] }>()
type Lane = Schema<'LaneOut'>
const change = (lane: Lane, body: { use?: number; state?: string }) =>
  act(() =>
    take(api.PATCH('/api/v1/lanes/{number}', { params: { path: { number: lane.id } }, body: { version: lane.version, why: '', ...body } })),
  )
const close = (lane: Lane) =>
  act(() =>
    take(api.POST('/api/v1/lanes/{number}/close', { params: { path: { number: lane.id } }, body: { version: lane.version, why: '' } })),
  )
</script>

<template>
  <div class="sheet overflow-hidden">
    <table v-if="lanes.length" class="w-full">
      <thead>
        <tr class="h-8 border-b border-rule text-2xs text-soft">
          <th class="px-3">Use</th>
          <th class="px-2">Lane</th>
          <th class="px-2">Item and units</th>
          <th class="px-2 text-right">Item cost</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="lane in lanes" :key="lane.id" class="h-11 border-b border-rule-2 last:border-0">
          <td class="px-3 whitespace-nowrap" :class="lane.use ? '' : 'font-bold'">{{ lane.use ? `Spare ${lane.use}` : 'Main' }}</td>
          <td class="px-2" :title="lane.why">
            <span class="flex items-center gap-2 whitespace-nowrap"
              ><LaneGlyph :state="lane.state" :use="lane.use" />{{ lane.supplier }}</span
            ><span class="text-xs text-soft">{{ lane.origin }}, {{ lane.service }}; {{ lane.state }}</span>
          </td>
          <td class="px-2">
            <span v-for="part in lane.parts" :key="part.item_id" class="code block whitespace-nowrap" :title="part.title"
              >{{ part.units }} × {{ part.number }}</span
            >
          </td>
          <td class="px-2 text-right">
            <span v-for="part in lane.parts" :key="part.item_id" class="block">{{ money(part.cost) }}</span>
          </td>
          <td class="px-3 text-right whitespace-nowrap">
            <Btn v-if="lane.use" small @click="change(lane, { use: 0 })">Make main</Btn>
            <Btn class="ml-1" small @click="change(lane, { state: lane.state === 'shut' ? 'open' : 'shut' })">{{
              lane.state === 'shut' ? 'Let it be used' : 'Shut'
            }}</Btn>
            <Btn class="ml-1" small @click="close(lane)">Close</Btn>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else class="p-3.5 text-soft">None yet. Until one is open its price and stock follow nobody, and its orders wait.</p>
  </div>
</template>
