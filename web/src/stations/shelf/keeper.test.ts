import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { Schema } from '@/api/client'

type Bench = Schema<'ShelfBench'>
interface Call {
  version: number
  [field: string]: unknown
}

const { ApiError } = vi.hoisted(() => ({
  ApiError: class extends Error {
    constructor(
      message: string,
      readonly status: number,
    ) {
      super(message)
    }
  },
}))

/** A server with one listing, that refuses what an earlier version would overwrite. */
const there = {
  version: 1,
  fields: { title: 'Lamp', tags: '', compare_at: null as unknown },
  calls: [] as Call[],
  fails: [] as Error[],
}
const bench = (): Bench => ({ id: 7, version: there.version, ...there.fields }) as unknown as Bench
const somebodyElse = (field: string, value: unknown) => {
  Object.assign(there.fields, { [field]: value })
  there.version++
}
const patch = vi.fn(async (_: string, { body }: { body: Call }) => {
  there.calls.push(body)
  const fails = there.fails.shift()
  if (fails) throw fails
  if (body.version !== there.version) throw new ApiError('somebody changed this listing', 409)
  const { no_compare: without, ...words } = body
  Reflect.deleteProperty(words, 'version')
  Reflect.deleteProperty(words, 'pass_on')
  Object.assign(there.fields, words, without ? { compare_at: null } : {})
  there.version++
  return { data: { message: 'Kept', listing: bench() } }
})
const store = new Map<string, string>()
vi.stubGlobal('sessionStorage', {
  getItem: (key: string) => store.get(key) ?? null,
  setItem: (key: string, value: string) => void store.set(key, value),
})
vi.mock('@/api/client', () => ({
  ApiError,
  api: { PATCH: (path: string, asked: { body: Call }) => patch(path, asked), GET: async () => ({ data: bench() }) },
  take: async (call: Promise<{ data: unknown }>) => (await call).data,
}))
vi.mock('@/app/messages', () => ({ act: async (run: () => Promise<unknown>) => run(), wordsOf: (problem: Error) => problem.message }))
vi.mock('@/api/cache', () => ({ queries: { setQueryData: () => undefined, invalidateQueries: async () => undefined } }))

const begin = async () => {
  vi.resetModules()
  return import('./keeper')
}

beforeEach(() => {
  vi.useFakeTimers()
  store.clear()
  Object.assign(there, { version: 1, fields: { title: 'Lamp', tags: '', compare_at: null }, calls: [], fails: [] })
})
afterEach(() => vi.useRealTimers())

describe('what is typed into a listing', () => {
  it('goes one field a call, each with the version that the one before left', async () => {
    const keeper = await begin()
    keeper.keep(bench(), { title: 'Tall lamp', tags: 'dusk' })
    expect(await keeper.kept(7)).toBe(true)
    expect(there.calls.map(({ version, title, tags }) => [version, title ?? tags])).toEqual([
      [1, 'Tall lamp'],
      [2, 'dusk'],
    ])
    expect(there.fields).toMatchObject({ title: 'Tall lamp', tags: 'dusk' })
  })
  it('is sent as it is typed last, whatever is on its way', async () => {
    const keeper = await begin()
    keeper.keep(bench(), { title: 'Tall l' })
    keeper.keep(bench(), { title: 'Tall lamp' })
    expect(await keeper.kept(7)).toBe(true)
    expect(there.fields.title).toBe('Tall lamp')
  })
  it('is refused alone: the other fields are kept, and the refusal is told', async () => {
    const keeper = await begin()
    there.fails.push(new ApiError('a title has at most 200 letters', 422))
    keeper.keep(bench(), { title: 'x', tags: 'dusk' })
    expect(await keeper.kept(7)).toBe(false)
    expect(keeper.refused.get(7)).toBe('a title has at most 200 letters')
    expect(there.fields).toMatchObject({ title: 'Lamp', tags: 'dusk' })
    expect(keeper.waiting.has(7)).toBe(false)
  })
  it('follows another change of other fields, and stops before it would overwrite the same one', async () => {
    const keeper = await begin()
    const seen = bench()
    somebodyElse('tags', 'dawn')
    keeper.keep(seen, { title: 'Tall lamp' })
    expect(await keeper.kept(7)).toBe(true)
    expect(there.fields).toMatchObject({ title: 'Tall lamp', tags: 'dawn' })

    const later = bench()
    somebodyElse('title', 'Their lamp')
    keeper.keep(later, { title: 'Our lamp' })
    expect(await keeper.kept(7)).toBe(false)
    expect(keeper.waiting.get(7)).toMatchObject({ stopped: true, trouble: 'Somebody else changed the title meanwhile.' })
    expect(there.fields.title).toBe('Their lamp')
    keeper.insist(7)
    expect(await keeper.kept(7)).toBe(true)
    expect(there.fields.title).toBe('Our lamp')
  })
  it('can be left to the other person', async () => {
    const keeper = await begin()
    const seen = bench()
    somebodyElse('title', 'Their lamp')
    keeper.keep(seen, { title: 'Our lamp' })
    await keeper.kept(7)
    keeper.forget(7)
    expect(await keeper.kept(7)).toBe(true)
    expect(there.fields.title).toBe('Their lamp')
  })
  it('waits for a line that is lost, and is sent by itself', async () => {
    const keeper = await begin()
    there.fails.push(new ApiError('Amber Lane does not answer', 0))
    keeper.keep(bench(), { title: 'Tall lamp' })
    expect(await keeper.kept(7)).toBe(false)
    expect(keeper.waiting.get(7)?.trouble).toBe('Amber Lane does not answer')
    await vi.advanceTimersByTimeAsync(3_100)
    expect(there.fields.title).toBe('Tall lamp')
    expect([...keeper.waiting.keys()]).toEqual([])
  })
  it('survives a page that is loaded again', async () => {
    const keeper = await begin()
    there.fails.push(new ApiError('Amber Lane does not answer', 0))
    keeper.keep(bench(), { title: 'Tall lamp' })
    await keeper.kept(7)
    vi.clearAllTimers()
    const again = await begin()
    expect(await again.kept(7)).toBe(true)
    expect(there.fields.title).toBe('Tall lamp')
    expect(JSON.parse(store.get('amber-lane-unkept')!)).toEqual([])
  })
  it('takes a compare-at price and its removal for the same thing', async () => {
    const keeper = await begin()
    there.fails.push(new ApiError('too many calls', 429))
    keeper.keep(bench(), { compare_at: { amount: '20.00', currency: 'GBP' } })
    await keeper.kept(7)
    keeper.keep(bench(), { no_compare: true })
    expect(keeper.waiting.get(7)?.words).toEqual({ no_compare: true })
    await vi.advanceTimersByTimeAsync(3_100)
    expect(there.fields.compare_at).toBe(null)
  })
})
