import { useEventSource, useIntervalFn } from '@vueuse/core'
import { computed, reactive, ref, watch } from 'vue'
import { ROOT, api, take, type Schema } from '@/api/client'
import { queries } from '@/main'

export type Pulse = Schema<'Pulse'>

const pulse = ref<Pulse | null>(null)
const state = reactive({ connected: false, at: 0, tick: 0 })

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

const stream = useEventSource(`${ROOT}/api/v1/events`, ['pulse'] as const, { immediate: false, autoReconnect: true })
watch(stream.data, (said) => {
  if (!said) return
  state.connected = true
  takeIn(JSON.parse(said) as Pulse)
})
watch(stream.error, (wrong) => wrong && (state.connected = false))

/** Open the stream of the pulse. */
export function listen(): void {
  stream.open()
}

export function hush(): void {
  stream.close()
  pulse.value = null
}

const beat = ref(performance.now())
useIntervalFn(() => (beat.value = performance.now()), 1000)

/** The business's time now: the practice world's clock runs on between two pulses. */
const now = computed(() =>
  pulse.value ? Date.parse(pulse.value.now) + Math.max(0, beat.value - state.at) * pulse.value.speed : Date.now(),
)

export const live = { pulse, state, now }
