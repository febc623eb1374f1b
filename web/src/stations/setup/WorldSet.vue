<script setup lang="ts">
/** The hands on the practice world: its clock and the ways in which its partners can fail. */
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act, tell, wordsOf } from '@/app/messages'
import { live } from '@/app/live'
import Btn from '@/parts/Btn.vue'
import { fullTime } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { dialsQuery } from './queries'

const queries = useQueryClient()
const asked = useQuery({
  ...dialsQuery(),
  retry: false,
  meta: { live: false },
})
const { data: dials } = asked
const SPEEDS = [
  [0, 'Pause'],
  [1, '×1'],
  [60, '×60'],
  [600, '×600'],
] as const
const busy = ref(false)
async function clock(body: { speed?: number; jump_minutes?: number; next_event?: boolean }, message: string) {
  busy.value = true
  await act(async () => {
    await take(api.POST('/api/v1/world/clock', { body: { next_event: false, ...body } }))
    return { message }
  })
  busy.value = false
}
async function turn(service: string, name: string, value: number) {
  try {
    queries.setQueryData(['dials'], await take(api.POST('/api/v1/world/dials', { body: { service, name, value } })))
  } catch (problem) {
    tell(wordsOf(problem), true)
  }
}
const buy = () => act(() => take(api.POST('/api/v1/world/buy', {})))
const shown = (dial: Schema<'DialOut'>) =>
  dial.unit === 'share' ? `${Math.round(dial.value * 100)} %` : dial.value ? `${dial.value} ${dial.unit}` : 'off'
const top = (dial: Schema<'DialOut'>) => (dial.unit === 'share' ? 1 : dial.unit === 'seconds' ? 5 : 40)
</script>

<template>
  <div>
    <h1>Practice world</h1>
    <p class="text-soft">
      Its store, supplier, carrier and mailbox are spoken to over HTTP and mail as real ones would be. It is
      {{ fullTime(new Date(live.now.value).toISOString()) }} there.
    </p>
    <Sight :of="asked" />
    <div class="mt-3 flex items-center gap-2">
      <div role="group" aria-label="Speed of time" class="flex gap-1.5">
        <button
          v-for="[speed, label] in SPEEDS"
          :key="speed"
          type="button"
          class="h-8 rounded px-3 font-semibold"
          :class="live.pulse.value?.speed === speed ? 'bg-asphalt text-sheet' : 'border border-rule bg-sheet hover:bg-shade'"
          :aria-pressed="live.pulse.value?.speed === speed"
          @click="clock({ speed }, speed ? `Time runs ×${speed}` : 'Time stands still')"
        >
          {{ label }}
        </button>
      </div>
      <Btn :disabled="busy" @click="clock({ next_event: true }, 'At the next event')">To the next event</Btn
      ><Btn :disabled="busy" @click="clock({ jump_minutes: 60 }, 'An hour later')">An hour on</Btn
      ><Btn :disabled="busy" @click="clock({ jump_minutes: 1440 }, 'A day later')">A day on</Btn><Btn @click="buy">Let somebody buy</Btn>
    </div>
    <div class="mt-4 grid max-w-5xl grid-cols-2 gap-3">
      <section v-for="service in dials ?? []" :key="service.service" class="sheet p-4">
        <h2>{{ service.name }}</h2>
        <label v-for="dial in service.dials" :key="dial.name" class="mt-1.5 grid grid-cols-[minmax(0,1fr)_110px_64px] items-center gap-3"
          ><span>{{ dial.message }}</span
          ><input
            type="range"
            class="accent-pine"
            min="0"
            :max="top(dial)"
            :step="dial.unit === 'share' ? 0.05 : 0.5"
            :value="dial.value"
            :aria-label="`${service.name} ${dial.message}`"
            @change="turn(service.service, dial.name, Number(($event.target as HTMLInputElement).value))"
          /><span class="text-right" :class="dial.value ? 'font-bold text-brick' : 'text-soft'">{{
            dial.value ? shown(dial) : 'off'
          }}</span></label
        >
      </section>
    </div>
  </div>
</template>
