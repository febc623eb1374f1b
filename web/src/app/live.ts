import { computed, reactive, ref } from 'vue'
import type { Schema } from '@/api/client'
import { queries } from '@/main'

export type Pulse = Schema<'Pulse'>

const pulse = ref<Pulse | null>(null)
const state = reactive({ connected: false, at: 0, tick: 0 })
let source: EventSource | null = null

/** Open the stream of the pulse; queries are looked at again whenever the data changed. */
export function listen(): void {
  source?.close()
  source = new EventSource('/api/v1/events')
  source.addEventListener('pulse', (event) => {
    const next = JSON.parse((event as MessageEvent<string>).data) as Pulse
    const moved = pulse.value && pulse.value.seen !== next.seen
    pulse.value = next
    state.connected = true
    state.at = performance.now()
    if (moved) {
      state.tick++
      void queries.invalidateQueries({ predicate: (query) => query.meta?.live !== false })
    }
  })
  source.onerror = () => {
    state.connected = false
  }
}

export function hush(): void {
  source?.close()
  source = null
  pulse.value = null
}

const beat = ref(performance.now())
setInterval(() => (beat.value = performance.now()), 1000)

/** The business's time now: the practice world's clock runs on between two pulses. */
const now = computed(() =>
  pulse.value ? Date.parse(pulse.value.now) + Math.max(0, beat.value - state.at) * pulse.value.speed : Date.now(),
)

export const live = { pulse, state, now }
