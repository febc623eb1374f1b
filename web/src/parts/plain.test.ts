import { afterEach, expect, test } from 'vitest'
import { asks, band, fromText, limits, toText, type Rule } from '@/stations/price/rules'
import { count, inField, minor, minorInField, money, numberOf, percent, place, plainOf } from './format'
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

const HERE = { decimal: '.', group: ',', sign_after: false }
const there = (decimal: string, group: string, sign_after: boolean) => Object.assign(place, { decimal, group, sign_after })
afterEach(() => void Object.assign(place, HERE))

test('a house that writes otherwise reads and writes its own way', () => {
  there(',', '.', true)
  expect(money({ amount: '-12345.50', currency: 'EUR' })).toBe('−12.345,50 €')
  expect([count(1234567), percent(-6.09), minorInField(123450, 'EUR')]).toEqual(['1.234.567', '−6,1 %', '1234,50'])
  expect(['1.234,50', '1234,5', '1234.50', '12.50', ',5'].map(plainOf)).toEqual(['1234.50', '1234.5', '1234.50', '12.50', '.5'])
  there(',', '\u00a0', true)
  expect(money({ amount: '1234.50', currency: 'PLN' })).toBe('1\u00a0234,50 PLN')
  expect(plainOf('1 234,50')).toBe('1234.50')
  expect([plainOf('1.234'), numberOf('1.234')]).toEqual(['? 1.234', NaN])
  there('.', '’', false)
  expect(["1'234.50", '1’234.50'].map(plainOf)).toEqual(['1234.50', '1234.50'])
})

test('thousands are no decimals, and what can be read in two ways is not guessed', () => {
  expect(['1,234', '1,234.50', '12,5', '12.5', '-1,234'].map(plainOf)).toEqual(['1234', '1234.50', '12.5', '12.5', '-1234'])
  expect([minor('1,234', 'GBP'), minor('1.234', 'KWD'), minor('1,234', 'JPY')]).toEqual([123400, 1234, 1234])
  for (const odd of ['1,23,4', '12,34.5', '1.2.3', 'ten', '1,2345', '1e3']) {
    expect(plainOf(odd)).toBe(odd)
    expect(numberOf(odd)).toBeNaN()
  }
  expect(numberOf('')).toBeNaN()
})

test('what stands in a field is read back as it was', () => {
  for (const [decimal, group] of [
    ['.', ','],
    [',', '.'],
    [',', '\u00a0'],
    ['.', '’'],
  ] as const) {
    there(decimal, group, false)
    for (const plain of ['0', '-3.18', '1234.567', '0.005', '1000000']) expect(plainOf(inField(plain))).toBe(plain)
  }
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
  expect(fromText('margin', 'endings', '.49 99')).toBe('49|99')
  expect(fromText('margin', 'min_profit', '£1,234.5')).toBe(123_450)
  expect([fromText('margin', 'band_from', '0.00', 'JPY'), fromText('margin', 'band_from', '1.50', 'JPY')]).toEqual([0, undefined])
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
