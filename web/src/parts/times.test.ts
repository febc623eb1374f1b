import { afterEach, describe, expect, it } from 'vitest'
import { ago, dateOf, dayHere, dayOf, dayOrTime, fullTime, monthOf, place, timeOf } from './format'

const here = (zone: string, dates = 'dmy') => Object.assign(place, { zone, dates })
afterEach(() => void here('UTC'))
const HOUR = 3_600_000

describe('a moment', () => {
  it('stands as the house’s clocks show it, also on the days when they change', () => {
    here('Europe/London')
    expect([timeOf('2026-03-29T00:59:00Z'), timeOf('2026-03-29T01:00:00Z')]).toEqual(['00:59', '02:00'])
    expect([timeOf('2026-10-25T00:30:00Z'), timeOf('2026-10-25T01:30:00Z')]).toEqual(['01:30', '01:30'])
    here('America/Denver', 'mdy')
    expect([dateOf('2026-03-08T06:59:00Z'), dateOf('2026-03-08T07:00:00Z')]).toEqual(['Sat Mar 7', 'Sun Mar 8'])
    here('Asia/Kathmandu')
    expect(timeOf('2026-03-12T09:00:00Z')).toBe('14:45')
  })
  it('is told in full with its zone in words', () => {
    here('America/Port_of_Spain')
    expect(fullTime('2026-03-12T09:00:05Z')).toBe('Thu 12 Mar 2026, 05:00:05, America/Port of Spain')
  })
  it('falls on the day that it is there', () => {
    const at = Date.parse('2026-12-31T23:30:00Z')
    for (const [zone, day] of [
      ['UTC', '2026-12-31'],
      ['Asia/Tokyo', '2027-01-01'],
      ['America/Denver', '2026-12-31'],
      ['Pacific/Kiritimati', '2027-01-01'],
    ] as const) {
      here(zone)
      expect(dayHere(at)).toBe(day)
    }
  })
})

describe('a day of the calendar', () => {
  it('is the same day wherever the house is', () => {
    for (const zone of ['UTC', 'America/Denver', 'Asia/Tokyo', 'Pacific/Kiritimati']) {
      here(zone)
      expect([dayOf('2026-04-06'), monthOf('2026-04-01')]).toEqual(['6 Apr', 'April 2026'])
    }
    here('Asia/Tokyo', 'mdy')
    expect(dayOf('2026-04-06')).toBe('Apr 6')
  })
})

describe('how long ago', () => {
  const at = '2026-03-12T09:00:00Z'
  it('is said more coarsely the longer it is, and never in the future', () => {
    const after = (ms: number) => ago(at, Date.parse(at) + ms)
    expect([-HOUR, 0, 29_000, 60_000, 59 * 60_000, HOUR, 9 * HOUR + 5 * 60_000, 10 * HOUR, 23 * HOUR, 24 * HOUR].map(after)).toEqual([
      'just now',
      'just now',
      'just now',
      '1 min',
      '59 min',
      '1 h 00',
      '9 h 05',
      '10 h',
      '23 h',
      'Thu 12 Mar',
    ])
  })
  it('is a time of day for the last day alone', () => {
    expect(dayOrTime(at, Date.parse(at) + 23 * HOUR)).toBe('09:00')
    expect(dayOrTime(at, Date.parse(at) + 25 * HOUR)).toBe('12 Mar')
    expect(dayOrTime(at, Date.parse(at) - HOUR)).toBe('12 Mar')
  })
})
