import { describe, expect, it, vi } from 'vitest'
import { daysOf } from './books'

vi.mock('@/api/client', () => ({ api: {}, take: async () => undefined, ROOT: '' }))
vi.mock('@/app/live', () => ({ live: { now: { value: 0 } } }))

const at = (day: string) => Date.parse(day)
const DAY = 86_400_000
const between = (days: { first: string; last: string }) => (at(days.last) - at(days.first)) / DAY + 1
const weekday = (day: string) => new Date(at(day)).getUTCDay()

describe('a period of Books', () => {
  it('is whole days, both ends in, and never of days to come', () => {
    for (let day = at('2024-02-01'); day < at('2026-03-15'); day += DAY) {
      for (const name of ['week', 'last-week', 'month', 'last-month', '28', 'nonsense']) {
        const found = daysOf(name, '', '', day)
        expect(found.first <= found.last || between(found) === 0, `${name} ${new Date(day).toISOString()}`).toBe(true)
        expect(at(found.last)).toBeLessThanOrEqual(day)
      }
    }
  })
  it('begins weeks on Monday and ends the last one on Sunday', () => {
    for (let n = 0; n < 14; n++) {
      const day = at('2026-03-02') + n * DAY
      const [week, last] = [daysOf('week', '', '', day), daysOf('last-week', '', '', day)]
      expect([weekday(week.first), weekday(last.first), weekday(last.last), between(last)]).toEqual([1, 1, 0, 7])
      expect(at(week.first) - at(last.last)).toBe(DAY)
    }
  })
  it('knows how long each month was', () => {
    expect(daysOf('last-month', '', '', at('2024-03-31'))).toEqual({ first: '2024-02-01', last: '2024-02-29' })
    expect(daysOf('last-month', '', '', at('2026-01-01'))).toEqual({ first: '2025-12-01', last: '2025-12-31' })
    expect(daysOf('month', '', '', at('2026-03-01'))).toEqual({ first: '2026-03-01', last: '2026-03-01' })
  })
  it('is 28 days up to yesterday by itself, and one’s own whichever end was typed first', () => {
    expect(daysOf('28', '', '', at('2026-03-12'))).toEqual({ first: '2026-02-12', last: '2026-03-11' })
    const own = { first: '2026-01-05', last: '2026-02-01' }
    expect(daysOf('own', '2026-01-05', '2026-02-01', 0)).toEqual(own)
    expect(daysOf('own', '2026-02-01', '2026-01-05', 0)).toEqual(own)
    expect(daysOf('own', '2026-02-01', '', at('2026-03-12'))).toEqual({ first: '2026-02-12', last: '2026-03-11' })
  })
})
