import type { Schema } from '@/api/client'
import { ruleAmount, rulesIn, signOf } from '@/parts/home'
import { digits, inField, minorInField, plainOf, short } from '@/parts/format'

export type Rule = Schema<'RuleBody'>
export const PPM = 1_000_000

/** What a rule's amounts are in. */
export const moneyOf = (rule: Rule): string => rule.currency || rulesIn.value
const share = (ppm: number): string => `${short(ppm / 10_000)}\u00a0%`

/** What a rule asks, as a person would say it. */
export function asks(rule: Rule): string {
  const value = rule.rule_value ?? 0
  switch (rule.rule) {
    case 'multiple':
      return `${short(value / PPM)} times cost`
    case 'add':
      return `cost plus ${ruleAmount(value, moneyOf(rule))}`
    case 'margin':
      return `margin of ${share(value)}`
    case 'return':
      return `earn ${share(value)} on cost`
    default:
      return 'as inherited'
  }
}

/** The rest of a rule, as parts of the same sentence. */
export function limits(rule: Rule): string[] {
  const parts: string[] = []
  const cash = (value: number) => ruleAmount(value, moneyOf(rule))
  if (rule.min_margin != null) parts.push(`never under ${share(rule.min_margin)}`)
  if (rule.min_profit != null) parts.push(`at least ${cash(rule.min_profit)}`)
  if (rule.least_price != null) parts.push(`never advertised under ${cash(rule.least_price)}`)
  if (rule.ceiling != null) parts.push(`never above ${cash(rule.ceiling)}`)
  if (rule.endings) parts.push(`prices end in ${rule.endings.replaceAll('|', ' or ')}`)
  if (rule.step != null) parts.push(`steps of ${share(rule.step)}`)
  if (rule.compare_at != null) parts.push(`compared with a price ${share(rule.compare_at)} higher`)
  if (rule.reserve) parts.push(`${share(rule.reserve)} for returns`)
  return parts
}

export function band(rules: Rule[], at: number): string {
  const from = rules[at]!.band_from ?? 0
  const next = rules[at + 1]
  const begins = ruleAmount(from, moneyOf(rules[at]!))
  if (!next) return from ? `over ${begins}` : 'of any height'
  const ends = ruleAmount(next.band_from ?? 0, moneyOf(next))
  return from ? `${begins} to ${ends}` : `up to ${ends}`
}

/** Fields that are money. */
const CASH = new Set<keyof Rule>(['min_profit', 'ceiling', 'least_price', 'band_from'])

/** The text of a field for its form: percent, factor or money, without loss. */
export function toText(rule: Rule, field: keyof Rule): string {
  const value = rule[field]
  if (value === null || value === undefined) return ''
  if (field === 'endings') return String(value).replaceAll('|', ' ')
  if (field === 'rule_value')
    return rule.rule === 'add'
      ? minorInField(Number(value), moneyOf(rule))
      : inField(+(Number(value) / (rule.rule === 'multiple' ? PPM : 10_000)).toFixed(6))
  if (CASH.has(field)) return minorInField(Number(value), moneyOf(rule))
  return inField(+(Number(value) / 10_000).toFixed(4))
}

/** What was typed, as the field's integer; undefined when it is not a number. */
export function fromText(
  kind: string | null | undefined,
  field: keyof Rule,
  text: string,
  currency = rulesIn.value,
): number | string | null | undefined {
  const bare = text.replace('%', '').replace(signOf(currency), '').trim()
  if (!bare) return null
  if (field === 'endings')
    return bare
      .split(/[\s|]+/)
      .map((end) => end.replace(/[.,]/, ''))
      .join('|')
  const plain = plainOf(bare)
  if (!/^-?\d+(\.\d+)?$/.test(plain)) return undefined
  // Noughts at the end are no decimals, so that 0.00 stands in a field of yen too.
  const [whole = '0', part = ''] = plain
    .replace('-', '')
    .replace(/(\.\d*?)0+$/, '$1')
    .split('.')
  const places =
    CASH.has(field) || (field === 'rule_value' && kind === 'add')
      ? currency
        ? digits(currency)
        : 2
      : field === 'rule_value' && kind === 'multiple'
        ? 6
        : 4
  if (part.length > places) return undefined
  const value = Number(whole + part.padEnd(places, '0'))
  return plain.startsWith('-') ? -value : value
}
