<script setup lang="ts">
/** The pulse along the bottom: what runs by itself, and the last act with its undo. */
import { computed } from 'vue'
import { api, take } from '@/api/client'
import { timeOf, count } from '@/parts/format'
import { useKeys } from './keys'
import { live, lookNow } from './live'
import { act, settled, tell } from './messages'

const pulse = live.pulse
const wait = computed(() => {
  const next = pulse.value?.next_sweep
  if (!next) return null
  const seconds = Math.round((Date.parse(next.at) - live.now.value) / 1000)
  if (seconds <= 0) return 'now'
  return seconds > 3600 ? timeOf(next.at) : `${Math.floor(seconds / 60)}:${String(seconds % 60).padStart(2, '0')}`
})
/** Undo the act that the bar shows; when another one came in between, it is shown first and nothing is undone. */
const undo = async () => {
  if (!(await settled())) return tell('What you just did is still on its way; nothing was undone', true)
  const shown = pulse.value?.last
  const now = await lookNow()
  if (!now) return tell('Amber Lane does not answer; nothing was undone', true)
  const last = now.last
  if (shown && last?.id !== shown.id)
    return tell(last ? `Nothing undone: meanwhile ${last.message}. Look, and press again` : 'Nothing is left to undo', true)
  if (last) await act(() => take(api.POST('/api/v1/acts/{number}/undo', { params: { path: { number: last.id } } })))
}
useKeys('Everywhere', [{ key: 'z', message: 'undo your own last act', run: undo }])
</script>

<template>
  <footer class="flex h-[30px] shrink-0 items-center gap-6 border-t border-rule bg-rule-2 px-4 text-xs text-soft">
    <span v-if="pulse?.next_sweep"
      >Next sweep <b class="text-ink">{{ pulse.next_sweep.supplier }}</b> {{ wait === 'now' ? '' : 'in' }}
      <b class="text-ink">{{ wait }}</b></span
    >
    <span v-else>No sweep planned</span>
    <span v-for="job in pulse?.jobs ?? []" :key="job.id" class="flex items-center gap-2"
      >{{ job.title }} <progress class="h-1.5 w-20 accent-pine" :max="job.total || 1" :value="job.done" :aria-label="job.title" />
      <b class="ml-1 text-ink">{{ count(job.done) }}</b></span
    >
    <RouterLink to="/setup/outbox?state=open" class="hover:underline"
      >To send <b class="text-ink">{{ pulse?.to_send ?? 0 }}</b></RouterLink
    >
    <span v-if="pulse?.last" class="ml-auto truncate" :title="pulse.last.message"
      >Your last: {{ pulse.last.message }} at {{ timeOf(pulse.last.at) }}</span
    >
    <button v-if="pulse?.last" type="button" class="font-semibold whitespace-nowrap text-slate hover:underline" @click="undo">
      Undo <kbd class="ml-1 rounded border border-faint px-1 font-mono text-2xs">Z</kbd>
    </button>
  </footer>
</template>
