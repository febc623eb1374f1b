import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { Schema } from '@/api/client'
import { settle } from './settle'

const calls: unknown[] = []
vi.mock('@/api/client', () => {
  const told = (method: string) => (path: string, what: unknown) => Promise.resolve(calls.push([method, path, what]))
  return { api: { POST: told('POST'), PATCH: told('PATCH') }, take: (one: Promise<unknown>) => one.then(() => ({ message: 'Done' })) }
})
const offer = (more: Partial<Schema<'OfferOut'>>) => ({ item_id: 9, lane: null, lane_version: null, ...more }) as Schema<'OfferOut'>

describe('an offer that is taken', () => {
  beforeEach(() => void calls.splice(0))
  it('opens a lane where none is, and leaves the others in their places', async () => {
    expect(await settle(4, offer({}), 1, '2.5')).toEqual({ message: 'Done' })
    const body = { sku_id: 4, parts: [{ item_id: 9, units: '2.5' }], use: 1, instead: false }
    expect(calls).toEqual([['POST', '/api/v1/lanes', { body }]])
  })
  it('confirms one that was shut, with its units, by the version that was looked at', async () => {
    await settle(4, offer({ lane: 7, lane_version: 3, lane_state: 'shut' }), 0, '1')
    expect(calls).toEqual([
      ['POST', '/api/v1/lanes/{number}/confirm', { params: { path: { number: 7 } }, body: { version: 3, units: '1' } }],
    ])
  })
  it('puts one that is open into its place, and opens no second', async () => {
    await settle(4, offer({ lane: 7, lane_version: 3, lane_state: 'open' }), 2, '1/3')
    const body = { version: 3, use: 2, units: '1/3', reason: '' }
    expect(calls).toEqual([['PATCH', '/api/v1/lanes/{number}', { params: { path: { number: 7 } }, body }]])
  })
})
