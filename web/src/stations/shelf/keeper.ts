import { reactive } from 'vue'
import { ApiError, api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import { queries } from '@/api/cache'

/** What a person typed into a listing and what was there when they began, on its way to be kept. */
export type Words = Partial<Schema<'EditAsk'>>
type Bench = Schema<'ShelfBench'>
interface Waiting {
  words: Words
  /** The fields as they were seen, by which another person's change is known from the program's. */
  seen: Record<string, unknown>
  trouble: string
  /** Another person changed the same fields: nothing goes on before this one says so. */
  stopped: boolean
}

const PLACE = 'amber-lane-unkept'
const AGAIN_MS = 3_000
export const waiting = reactive(new Map<number, Waiting>(restored()))
const versions = new Map<number, number>()
const running = new Map<number, Promise<void>>()

function restored(): [number, Waiting][] {
  try {
    return JSON.parse(sessionStorage.getItem(PLACE) ?? '[]') as [number, Waiting][]
  } catch {
    return []
  }
}
const remember = () => sessionStorage.setItem(PLACE, JSON.stringify([...waiting.entries()]))

/** A field of a listing as the server tells it, in a form that can be compared. */
const message = (bench: Bench, field: string): string =>
  JSON.stringify(field === 'no_compare' ? bench.compare_at : (bench as unknown as Record<string, unknown>)[field])

/** Keep words of a listing: one call after the other, each with the version that the one before left; typed text stays until it is kept. */
export function keep(bench: Bench, words: Words): void {
  // The version goes with what was seen of it: while something waits, a newer one may hold another person's change.
  if (!waiting.has(bench.id)) versions.set(bench.id, Math.max(bench.version, versions.get(bench.id) ?? 0))
  const one = waiting.get(bench.id) ?? { words: {}, seen: {}, trouble: '', stopped: false }
  for (const field of Object.keys(words)) one.seen[field] ??= message(bench, field)
  Object.assign(one.words, words)
  if (words.compare_at) delete one.words.no_compare
  if (words.no_compare) delete one.words.compare_at
  if (!one.stopped) one.trouble = ''
  waiting.set(bench.id, one)
  remember()
  go(bench.id)
}

/** Send what another person's change stopped, over that. */
export function insist(listing: number): void {
  const one = waiting.get(listing)
  if (!one) return
  one.stopped = false
  one.seen = {}
  versions.delete(listing)
  go(listing)
}

export function forget(listing: number): void {
  waiting.delete(listing)
  remember()
  void queries.invalidateQueries({ queryKey: ['shelf-listing', listing] })
}

/** Everything of a listing that was typed is kept; false where something could not be. */
export async function kept(listing: number): Promise<boolean> {
  await running.get(listing)
  return !waiting.has(listing) && !refused.has(listing)
}

function go(listing: number): void {
  if (running.has(listing)) return
  const run = send(listing).finally(() => running.delete(listing))
  running.set(listing, run)
}

async function send(listing: number): Promise<void> {
  const path = { params: { path: { number: listing } } }
  for (let tries = 0; tries < 50; tries++) {
    const one = waiting.get(listing)
    if (!one || one.stopped) return
    // One field a call, so that one that is refused takes no other with it.
    const words: Words = Object.fromEntries(Object.entries(one.words).slice(0, 1))
    try {
      if (!versions.has(listing)) versions.set(listing, (await take(api.GET('/api/v1/shelf/listings/{number}', path))).version)
      const body = { pass_on: true, no_compare: false, ...words, version: versions.get(listing)! }
      const done = await take(api.PATCH('/api/v1/shelf/listings/{number}', { ...path, body }))
      versions.set(listing, done.listing.version)
      // What is shown is what was kept, so that the next change is not taken for another person's.
      queries.setQueryData(['shelf-listing', listing], done.listing)
      for (const [field, value] of Object.entries(words))
        if (JSON.stringify(one.words[field as keyof Words]) === JSON.stringify(value)) {
          delete one.words[field as keyof Words]
          delete one.seen[field]
        } else one.seen[field] = message(done.listing, field)
      if (!Object.keys(one.words).length) waiting.delete(listing)
      remember()
      void act(() => Promise.resolve(done))
      if (!waiting.has(listing)) return
    } catch (problem) {
      const status = problem instanceof ApiError ? problem.status : 0
      if (status === 409 && (await overtaken(listing, one))) continue
      if (status === 409) return
      one.trouble = wordsOf(problem)
      if (![0, 401, 429].includes(status) && status < 500) {
        // It cannot be taken as it is; the text stays in its field, to be mended.
        refused.set(listing, one.trouble)
        one.trouble = ''
        for (const field of Object.keys(words)) {
          delete one.words[field as keyof Words]
          delete one.seen[field]
        }
        if (!Object.keys(one.words).length) waiting.delete(listing)
        remember()
        continue
      }
      setTimeout(() => go(listing), AGAIN_MS)
      return
    }
  }
}

/** What was refused for good, in words, until the next change. */
export const refused = reactive(new Map<number, string>())

/** Another version came in between. True where the fields are as they were seen, so that ours may follow it. */
async function overtaken(listing: number, one: Waiting): Promise<boolean> {
  const now = await take(api.GET('/api/v1/shelf/listings/{number}', { params: { path: { number: listing } } })).catch(() => null)
  if (!now) {
    setTimeout(() => go(listing), AGAIN_MS)
    return false
  }
  const theirs = Object.keys(one.seen).filter((field) => message(now, field) !== one.seen[field])
  versions.set(listing, now.version)
  if (!theirs.length) return true
  one.stopped = true
  one.trouble = `Somebody else changed the ${theirs.map((field) => field.replace('_', ' ').replace('no compare', 'compare-at price')).join(' and the ')} meanwhile.`
  remember()
  return false
}

for (const listing of waiting.keys()) go(listing)
