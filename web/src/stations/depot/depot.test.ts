import { describe, expect, it, vi } from 'vitest'
import type { Load } from './depot'
import { STEPS, chance, dayAt, order, paper, settle } from './depot'

const calls: unknown[] = []
vi.mock('@/api/client', () => ({
  ROOT: '/under',
  api: { POST: (path: string, what: unknown) => Promise.resolve(calls.push([path, what])) },
  take: (one: Promise<unknown>) => one,
}))
vi.mock('@/app/messages', () => ({ act: (run: () => Promise<unknown>) => run().then(() => true) }))
vi.mock('@/parts/format', () => ({ dayOf: (day: string) => day }))

describe('the days of the picture', () => {
  it('are counted from today over the ends of months and years', () => {
    expect([0, 1, 31].map((day) => dayAt('2026-12-31', day))).toEqual(['2026-12-31', '2027-01-01', '2027-01-31'])
    expect(dayAt('2028-02-28', 1)).toBe('2028-02-29')
    expect(dayAt('2026-03-01', -1)).toBe('2026-02-28')
  })
  it('are days whatever clocks do in between', () => {
    for (const day of ['2026-03-28', '2026-10-24']) expect(Number(dayAt(day, 2).slice(-2)) - Number(day.slice(-2))).toBe(2)
  })
})

describe('a chance', () => {
  it('is never told as none or as certain where it is neither', () => {
    expect([0, 0.0004, 0.004, 0.01, 0.5, 0.994, 0.999, 1].map(chance)).toEqual([
      '0 %',
      'under 1 %',
      'under 1 %',
      '1 %',
      '50 %',
      'over 99 %',
      'over 99 %',
      '100 %',
    ])
  })
})

describe('a load', () => {
  it('has its papers under the path that the application stands under', () => {
    const load = { id: 12 } as Load
    expect([paper(load, 'labels'), paper(load, 'packing', true)]).toEqual([
      '/under/api/v1/depot/loads/12/papers/labels',
      '/under/api/v1/depot/loads/12/papers/packing?sheets=true',
    ])
  })
  it('stands at each step with when that was', () => {
    const at = { made_at: 'a', ordered_at: 'b', left_at: 'c', reached_at: 'd', counted_at: null } as unknown as Load
    expect(STEPS.map((one) => [one.state, one.at(at)])).toEqual([
      ['planned', 'a'],
      ['ordered', 'b'],
      ['on_the_way', 'c'],
      ['at_gate', 'd'],
      ['counted', null],
    ])
  })
  it('is changed by the version that was looked at', async () => {
    await settle({ id: 5, version: 2 }, 'claim')
    await order([{ held: 1, units: 24 }])
    expect(calls).toEqual([
      ['/api/v1/depot/lines/{number}/settle', { params: { path: { number: 5 } }, body: { version: 2, how: 'claim' } }],
      ['/api/v1/depot/order', { body: { lines: [{ held: 1, units: 24 }] } }],
    ])
  })
})
