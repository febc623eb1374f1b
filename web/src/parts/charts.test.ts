import { describe, expect, it } from 'vitest'
import { bars } from '@/stations/books/bridge'
import { rangeOf, stepPath } from './steps'
import { fall } from './waterfall'

/** Made-up amounts that are the same each time. */
function* amounts(n: number): Generator<number[]> {
  let seed = 11
  const next = () => (seed = (seed * 48_271) % 2_147_483_647)
  for (let i = 0; i < n; i++) yield Array.from({ length: 1 + (next() % 7) }, () => (next() % 4_001) - 2_000)
}

describe('a bridge between two periods', () => {
  it('stands on its levels: each effect begins where the one before ended, and the last ends at the other total', () => {
    for (const effects of amounts(200)) {
      const before = 1_000
      const after = effects.reduce((sum, one) => sum + one, before)
      const found = bars(before, effects, after)
      expect(found).toHaveLength(effects.length + 2)
      expect(found.at(-2)!.level).toBeCloseTo(found.at(-1)!.level)
      for (const [n, bar] of found.entries()) {
        expect(bar.top).toBeGreaterThanOrEqual(-1e-9)
        expect(bar.top + bar.height).toBeLessThanOrEqual(100.61)
        if (n > 0 && n < found.length - 1)
          expect(Math.min(Math.abs(found[n - 1]!.level - bar.top), Math.abs(found[n - 1]!.level - bar.top - bar.height))).toBeLessThan(0.61)
      }
    }
  })
  it('is drawn where nothing was and nothing is', () => {
    for (const bar of bars(0, [0, 0], 0)) expect(Object.values(bar).every(Number.isFinite)).toBe(true)
  })
})

describe('a fall from price to profit', () => {
  it('keeps within its width, and its bars are as wide as their amounts', () => {
    for (const some of amounts(200)) {
      const steps = [{ amount: 2_500, total: true }, ...some.map((amount) => ({ amount, total: false }))]
      const left = some.reduce((sum, one) => sum + one, 2_500)
      const found = fall([...steps, { amount: left, total: true }])
      const unit = found[0]!.width / 2_500
      for (const [n, bar] of found.entries()) {
        expect(bar.from).toBeGreaterThanOrEqual(-1e-9)
        expect(bar.from + bar.width).toBeLessThanOrEqual(100.81)
        const amount = [...steps, { amount: left, total: true }][n]!.amount
        expect(bar.width).toBeCloseTo(Math.max(Math.abs(amount) * unit, 0.8), 5)
      }
    }
  })
})

describe('a line of steps', () => {
  it('holds each value until the next, and to the right edge', () => {
    const points = [
      { at: 0, value: 10 },
      { at: 5, value: 20 },
    ]
    expect(stepPath(points, 100, 54, [0, 10], [10, 20])).toBe('M0.0 52.0H50.0V2.0H100')
    expect(rangeOf(points)).toEqual([10, 20])
  })
  it('is drawn for one value, for a moment alone, for points outside, and for none', () => {
    expect(stepPath([], 100, 54, [0, 10], [0, 0])).toBe('')
    for (const path of [
      stepPath([{ at: 5, value: 7 }], 100, 54, [0, 10], [7, 7]),
      stepPath([{ at: 5, value: 7 }], 100, 54, [5, 5], [7, 7]),
      stepPath(
        [
          { at: -50, value: 1 },
          { at: 90, value: 2 },
        ],
        100,
        54,
        [0, 10],
        [1, 2],
      ),
    ]) {
      expect(path).not.toMatch(/NaN|Infinity/)
      for (const x of path.matchAll(/[MH](-?[\d.]+)/g)) expect(Number(x[1])).toBeGreaterThanOrEqual(0)
      for (const x of path.matchAll(/[MH](-?[\d.]+)/g)) expect(Number(x[1])).toBeLessThanOrEqual(100)
    }
  })
})
