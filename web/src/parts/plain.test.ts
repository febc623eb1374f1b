import { expect, test } from 'vitest'
import { asks, band, fromText, limits, toText, type Rule } from '@/stations/price/rules'
import { money, percent } from './format'
import { stepPath } from './steps'
import { fall } from './waterfall'
import { rulesIn } from './home'

rulesIn.value = 'GBP'

const rule = (more: Partial<Rule>): Rule => ({ scope: 'house', scope_key: '', band_from: 0, ...more }) as Rule

test('money keeps its sign, its thousands and its pennies', () => {
  expect(money({ amount: '-3.18', currency: 'GBP' })).toBe('−£3.18')
  expect(money({ amount: '12345.50', currency: 'PLN' })).toBe('12,345.50 PLN')
  expect(money({ amount: '11.01', currency: 'GBP' }, true)).toBe('+£11.01')
  expect(percent(-6.09)).toBe('−6.1 %')
})

test('a rule reads as a sentence and its fields survive the form', () => {
  const one = rule({ rule: 'margin', rule_value: 285_000, min_profit: 250, endings: '49|99', step: 80_000 })
  expect(asks(one)).toBe('margin of 28.5\u00a0%')
  expect(limits(one)).toEqual(['at least £2.50', 'prices end in 49 or 99', 'steps of 8\u00a0%'])
  for (const field of ['rule_value', 'min_profit', 'endings', 'step'] as const)
    expect(fromText(one.rule, field, toText(one, field))).toEqual(one[field])
  expect(fromText('multiple', 'rule_value', '2.4')).toBe(2_400_000)
  expect(fromText('margin', 'rule_value', '28.123456')).toBeUndefined()
  expect(fromText('margin', 'rule_value', 'much')).toBeUndefined()
  expect([0, 1].map((n) => band([rule({}), rule({ band_from: 500 })], n))).toEqual(['up to £5', 'over £5'])
})

test('the waterfall falls from the price to what is kept', () => {
  const bars = fall([
    { amount: 20, total: true },
    { amount: -5, total: false },
    { amount: -10, total: false },
    { amount: 5, total: true },
  ])
  expect(bars).toEqual([
    { from: 0, width: 100 },
    { from: 75, width: 25 },
    { from: 25, width: 50 },
    { from: 0, width: 25 },
  ])
  const loss = fall([
    { amount: 10, total: true },
    { amount: -15, total: false },
    { amount: -5, total: true },
  ])
  expect(loss[2]!.from).toBe(0)
  expect(loss[0]!.from).toBeCloseTo(loss[2]!.width)
})

test('a step line holds each value until the next', () => {
  expect(
    stepPath(
      [
        { at: 0, value: 1 },
        { at: 50, value: 3 },
      ],
      100,
      10,
      [0, 100],
      [1, 3],
    ),
  ).toBe('M0.0 8.0H50.0V2.0H100')
})
