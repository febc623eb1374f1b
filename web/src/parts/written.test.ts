import { afterEach, expect, it } from 'vitest'
import { digits, inField, major, minor, minorInField, money, place, plainOf } from './format'
import written from './written.json'

/** What the server writes, each currency and each manner: `tests/core/test_writing.py` holds it against the program there. */
const name = (one: (typeof written)[number]) =>
  `${one.currency} as 1${one.place.group}000${one.place.decimal}5${one.place.sign_after ? ', sign after' : ''}`

afterEach(() => void Object.assign(place, { decimal: '.', group: ',', sign_after: false }))

it.each(written.map((one) => [name(one), one] as const))('%s is written, typed and counted as on the server', (_, one) => {
  Object.assign(place, one.place)
  expect(digits(one.currency)).toBe(one.digits)
  for (const [units, plain, shown] of one.told as [number, string, string][]) {
    expect(major(units, one.currency)).toBe(plain)
    expect(money({ amount: plain, currency: one.currency }).replace(/\u202f/g, '\u00a0')).toBe(shown)
    expect(plainOf(inField(plain))).toBe(plain)
    expect(minor(minorInField(units, one.currency), one.currency)).toBe(units)
  }
})
