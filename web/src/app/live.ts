import type { Query } from '@tanstack/vue-query'
import { useEventSource, useIntervalFn } from '@vueuse/core'
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import { ROOT, api, take, type Schema } from '@/api/client'
import { isKnown, isOld, type Revisions } from '@/api/madeOf'
import { queries } from '@/api/cache'

export type Pulse = Schema<'Pulse'>

const pulse = ref<Pulse | null>(null)
/** connected: nothing says otherwise; a page that has just come has its pulse before its stream. */
const state = reactive({ connected: true, at: 0 })
/** How often each table was changed, by the newest pulse; a new object whenever one was. */
const tables = shallowRef<Revisions>({})
// What an answer makes of the time alone is looked at with the first pulse that comes so long after the last look.
const WHOLE_MS = 30_000
let whole = 0

/** Take a pulse in; what was made of a table that was changed since is asked for again. */
function takeIn(next: Pulse): void {
  const manner = pulse.value && JSON.stringify(pulse.value.house) !== JSON.stringify(next.house)
  const moved = JSON.stringify(next.tables) !== JSON.stringify(tables.value)
  const first = !pulse.value
  pulse.value = next
  tables.value = next.tables
  state.at = performance.now()
  if (first) whole = state.at
  else if (manner || state.at - whole > WHOLE_MS) lookAgain()
  if (moved) void follow(true, !first)
}

/** Ask again for what is old. What is on its way is not broken off for that: where it comes too late, it is asked for once more. */
function follow(live: boolean, unknown: boolean): Promise<unknown> {
  const among = (query: Query) => !live || query.meta?.live !== false
  return Promise.all([
    queries.invalidateQueries({ predicate: (q) => among(q) && isOld(q.state.data, tables.value) }, { cancelRefetch: false }),
    unknown && queries.invalidateQueries({ predicate: (q) => among(q) && !isKnown(q.state.data) }),
  ])
}
// What came too late is asked for once more, and not again before the next pulse.
const late = new WeakMap<Query, Revisions>()
queries.getQueryCache().subscribe((told) => {
  if (told.type !== 'updated' || told.action.type !== 'success') return
  const { query } = told
  if (query.meta?.live === false || late.get(query) === tables.value || !isOld(query.state.data, tables.value)) return
  late.set(query, tables.value)
  void queries.invalidateQueries({ queryKey: query.queryKey, exact: true })
})

/** After a change of one's own: what it touched is asked for again, also what is else looked at only once. now: the pulse since. */
export async function askAgain(now: Pulse | null): Promise<void> {
  if (!now) lookAgain()
  await follow(false, true)
}

/** Look at everything on the page again. */
function lookAgain(): void {
  whole = performance.now()
  void queries.invalidateQueries({ predicate: (query) => query.meta?.live !== false })
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
  state.connected = true
  pulse.value = null
}

const beat = ref(performance.now())
useIntervalFn(() => (beat.value = performance.now()), 1000)

/** The business's time now: the practice world's clock runs on between two pulses. */
const now = computed(() =>
  pulse.value ? Date.parse(pulse.value.now) + Math.max(0, beat.value - state.at) * pulse.value.speed : Date.now(),
)

export const live = { pulse, state, now }
