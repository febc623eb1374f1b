import { computed, reactive, ref } from 'vue'
import { ROOT, api, take, type Schema } from '@/api/client'
import { queries } from '@/main'

export type Pulse = Schema<'Pulse'>

const pulse = ref<Pulse | null>(null)
const state = reactive({ connected: false, at: 0, tick: 0 })
let source: EventSource | null = null

/** Take a pulse in; queries are looked at again whenever the data or what waits changed. */
function takeIn(next: Pulse): void {
  const old = pulse.value
  const moved = old && (old.seen !== next.seen || JSON.stringify(old.counts) !== JSON.stringify(next.counts))
  pulse.value = next
  state.at = performance.now()
  if (moved) {
    state.tick++
    void queries.invalidateQueries({ predicate: (query) => query.meta?.live !== false })
  }
}

/** The pulse as it is at this moment, without waiting for the stream; null when the back end does not answer. */
export async function lookNow(): Promise<Pulse | null> {
  try {
    takeIn(await take(api.GET('/api/v1/pulse', { signal: AbortSignal.timeout(5000) })))
    return pulse.value
  } catch {
    return null
  }
}

/** Open the stream of the pulse. */
export function listen(): void {
  source?.close()
  source = new EventSource(`${ROOT}/api/v1/events`)
  source.addEventListener('pulse', (event) => {
    state.connected = true
    takeIn(JSON.parse((event as MessageEvent<string>).data) as Pulse)
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
