import { QueryObserver } from '@tanstack/vue-query'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { queries } from '@/api/cache'
import { noteMadeOf } from '@/api/madeOf'
import { askAgain, hush, lookNow, type Pulse } from './live'

const house = { country: 'GB' }
let pulse: object | null
vi.mock('@/api/client', () => ({
  ROOT: '',
  api: { GET: async () => ({ data: pulse }) },
  take: async (call: Promise<{ data: unknown }>) => {
    const { data } = await call
    if (!data) throw new Error('no answer')
    return data
  },
}))
const beats = (tables: Record<string, number>, other: object = {}) => {
  pulse = { now: '2026-03-12T09:00:00Z', speed: 1, house, tables, ...other }
  return lookNow()
}

const asked: Record<string, number> = {}
const stops: (() => void)[] = []
/** Something that a page shows: how often it was asked for is counted. */
async function shown(key: string, madeOf?: string | (() => string), meta?: object) {
  asked[key] = 0
  const observer = new QueryObserver(queries, {
    queryKey: [key],
    queryFn: async () => {
      asked[key]!++
      const body = { n: asked[key] }
      const said = typeof madeOf === 'function' ? madeOf() : madeOf
      noteMadeOf(body, new Headers(said ? { 'X-Made-Of': said } : {}))
      return body
    },
    meta: { ...meta },
  })
  stops.push(observer.subscribe(() => undefined))
  await vi.advanceTimersByTimeAsync(0)
}
const settle = () => vi.advanceTimersByTimeAsync(1)

beforeEach(async () => {
  vi.useFakeTimers()
  hush()
  queries.clear()
  await beats({ order: 1, parcel: 1 })
})
afterEach(() => {
  stops.splice(0).forEach((stop) => stop())
  vi.useRealTimers()
})

describe('a pulse', () => {
  it('asks again for what is old, for what says nothing of itself, and for nothing else', async () => {
    let order = 1
    await shown('orders', () => `order:${order}`)
    await shown('parcels', 'parcel:1')
    await shown('files')
    order = 2
    await beats({ order: 2, parcel: 1 })
    await settle()
    expect(asked).toMatchObject({ orders: 2, parcels: 1, files: 2 })
    await beats({ order: 2, parcel: 1 })
    await settle()
    expect(asked).toMatchObject({ orders: 2, parcels: 1, files: 2 })
  })
  it('leaves alone what is looked at only once, until somebody here changes it', async () => {
    let sku = 1
    await shown('scopes', () => `sku:${sku}`, { live: false })
    sku = 2
    const now = await beats({ sku: 2 })
    await settle()
    expect(asked['scopes']).toBe(1)
    await askAgain(now)
    await settle()
    expect(asked['scopes']).toBe(2)
  })
  it('asks once more for an answer that was overtaken on its way, and not without end', async () => {
    await beats({ order: 5 })
    await shown('orders', 'order:4')
    await settle()
    expect(asked['orders']).toBe(2)
    await beats({ order: 6 })
    await settle()
    expect(asked['orders']).toBe(4)
  })
  it('asks for everything when the house writes otherwise, and every half minute', async () => {
    await shown('parcels', 'parcel:1')
    await beats({ order: 1, parcel: 1 }, { house: { country: 'DE' } })
    await settle()
    expect(asked['parcels']).toBe(2)
    await vi.advanceTimersByTimeAsync(31_000)
    await beats({ order: 1, parcel: 1 }, { house: { country: 'DE' } })
    await settle()
    expect(asked['parcels']).toBe(3)
  })
  it('that does not come lets everything be asked for after a change', async () => {
    await shown('parcels', 'parcel:1')
    pulse = null
    expect(await lookNow()).toBe(null)
    await askAgain(null as Pulse | null)
    await settle()
    expect(asked['parcels']).toBe(2)
  })
})
