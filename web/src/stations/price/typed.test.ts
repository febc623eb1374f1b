import { afterEach, describe, expect, it } from 'vitest'
import { digits, place } from '@/parts/format'
import { ruleAmount, rulesIn } from '@/parts/home'
import { band, fromText, toText, type Rule } from './rules'

const MANNERS = [
  { decimal: '.', group: ',' },
  { decimal: ',', group: '.' },
  { decimal: ',', group: '\u00a0' },
  { decimal: '.', group: '’' },
]
const CURRENCIES = ['GBP', 'JPY', 'KWD']
const MONEY = ['min_profit', 'ceiling', 'least_price', 'band_from'] as const
const SHARES = ['min_margin', 'step', 'compare_at', 'reserve'] as const
const VALUES = [0, 1, 9, 10, 99, 100, 250, 999, 1_000, 1_234, 12_345, 100_000, 123_456, 1_000_000, 99_999_999]
const rule = (more: Partial<Rule>): Rule => ({ scope: 'house', scope_key: '', band_from: 0, ...more }) as Rule

afterEach(() => void Object.assign(place, { decimal: '.', group: ',' }))

describe.each(MANNERS)('a rule in a house that writes 1$group000$decimal50', (manner) => {
  it.each(CURRENCIES)('is typed as it is shown, to the last part of a penny, in %s', (currency) => {
    Object.assign(place, manner)
    for (const value of VALUES) {
      for (const field of MONEY) {
        const shown = toText(rule({ [field]: value, currency }), field)
        expect([field, shown, fromText('margin', field, shown, currency)]).toEqual([field, shown, value])
      }
      for (const field of SHARES) expect(fromText('margin', field, toText(rule({ [field]: value }), field), currency)).toBe(value)
      for (const kind of ['multiple', 'margin', 'return', 'add'] as const) {
        const shown = toText(rule({ rule: kind, rule_value: value, currency }), 'rule_value')
        expect([kind, shown, fromText(kind, 'rule_value', shown, currency)]).toEqual([kind, shown, value])
      }
    }
  })
  it('takes the sign of its money, a percent sign and room around, and refuses what has too many places', () => {
    Object.assign(place, manner)
    const written = (text: string) => text.replace('.', manner.decimal)
    expect(fromText('margin', 'min_profit', written('£ 2.50'), 'GBP')).toBe(250)
    expect(fromText('margin', 'rule_value', written(' 27.5 % '))).toBe(275_000)
    expect(fromText('margin', 'min_profit', written('2.505'), 'GBP')).toBe(undefined)
    expect(fromText('margin', 'min_profit', written('2.50'), 'JPY')).toBe(undefined)
    expect(fromText('multiple', 'rule_value', written('2.1234567'))).toBe(undefined)
    for (const odd of ['ten', '1e3', '--2', '£', '%']) expect([undefined, null]).toContain(fromText('margin', 'min_profit', odd, 'GBP'))
  })
})

it('keeps endings as they are meant, whatever stands between them', () => {
  expect(fromText('margin', 'endings', '.95 ,99  00')).toBe('95|99|00')
  expect(toText(rule({ endings: '95|99' }), 'endings')).toBe('95 99')
  expect(fromText('margin', 'endings', '  ')).toBe(null)
})

it('names a band by where the next begins, in the rule’s own money', () => {
  rulesIn.value = 'GBP'
  const bands = [rule({ currency: 'JPY' }), rule({ currency: 'JPY', band_from: 1_000 }), rule({ currency: 'JPY', band_from: 5_500 })]
  expect(digits('JPY')).toBe(0)
  expect(bands.map((_, at) => band(bands, at))).toEqual(['up to ¥1,000', '¥1,000 to ¥5,500', 'over ¥5,500'])
  expect(band([rule({})], 0)).toBe('of any height')
})

it('leaves out what is nought behind the mark, and nothing of the thousands', () => {
  const told = () => [ruleAmount(100_000, 'GBP'), ruleAmount(100_050, 'GBP'), ruleAmount(1_000, 'JPY'), ruleAmount(-2_000_000, 'KWD')]
  expect(told()).toEqual(['£1,000', '£1,000.50', '¥1,000', '−2,000 KWD'])
  Object.assign(place, MANNERS[1])
  expect(told()).toEqual(['£1.000', '£1.000,50', '¥1.000', '−2.000 KWD'])
})
