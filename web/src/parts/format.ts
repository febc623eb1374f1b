import { computed, reactive } from 'vue'
import type { Money } from '@/api/client'

/** Where the house is: its time zone, the order of day and month, and how numbers are written. Said by the server at sign-in. */
export const place = reactive({ zone: 'UTC', dates: 'dmy', country: '', decimal: '.', group: ',', sign_after: false })

/** Signs that say one currency and no other; all others go by their code. As on the server. */
export const SIGNS: Record<string, string> = { GBP: '£', EUR: '€', USD: '$', JPY: '¥' }

// Those that have other than two, as on the server (`core/currency.py`): browsers differ about some, and a new one may change its mind.
const PLACES: Record<string, number> = { JPY: 0, KRW: 0, VND: 0, CLP: 0, ISK: 0, KWD: 3, BHD: 3, TND: 3 }
/** How many decimals a currency has. */
export const digits = (currency: string): number => PLACES[currency] ?? 2

/** A plain number such as -1234.50 as people here write it, with a real minus. As `core/writing.py`. */
export function written(plain: string): string {
  const [whole = '0', part] = plain.replace('-', '').split('.')
  const text = whole.replace(/\B(?=(\d{3})+(?!\d))/g, place.group) + (part ? place.decimal + part : '')
  return (plain.startsWith('-') ? '−' : '') + text
}
/** A number rounded to so many decimals; short: without those that are nought. */
export const fixed = (value: number, places: number): string => written(value.toFixed(places))
export const short = (value: number, places = 4): string => written(String(+value.toFixed(places)))
/** A whole number as people write it. */
export const count = (n: number): string => written(String(Math.round(n)))

/** A plain number as it stands in a field. */
export const inField = (plain: string | number | null | undefined): string => String(plain ?? '').replace('.', place.decimal)

/**
 * What was typed, as a plain number: marks between thousands may stand where they belong, and the other mark before one or two decimals
 * is understood. What can be read in two ways, or is no number, stays as it was typed, so that it is refused and not guessed.
 */
export function plainOf(text: string): string {
  const bare = text.replace(/[\s\u00a0\u202f]/g, '').replace('−', '-')
  const [, sign = '', rest = ''] = /^([+-]?)(.*)$/.exec(bare)!
  const mark = '\\' + place.decimal
  const between = place.group.trim() ? (place.group === '’' ? "['’]" : '\\' + place.group) : "['’]"
  const minus = sign === '-' ? '-' : ''
  if (new RegExp(`^(\\d+(${mark}\\d*)?|${mark}\\d+)$`).test(rest)) return minus + rest.replace(place.decimal, '.')
  if (new RegExp(`^\\d{1,3}(${between}\\d{3})+(${mark}\\d*)?$`).test(rest))
    return minus + rest.replace(new RegExp(between, 'g'), '').replace(place.decimal, '.')
  // Where neither mark of the house is in it, 1.234 could be a thousand: marked, so that nobody takes it for a number.
  if (place.decimal !== '.' && /^\d{1,3}(\.\d{3})+$/.test(rest)) return `? ${text.trim()}`
  return /^\d*[.,]\d{1,2}$/.test(rest) ? minus + rest.replace(',', '.') : text.trim()
}
/** The same as a number: NaN where it is none, or nothing was typed. */
export function numberOf(text: string): number {
  const plain = plainOf(text)
  return /^-?(\d+\.?\d*|\.\d+)$/.test(plain) ? Number(plain) : NaN
}

/** A copy of something in which each amount of money is written otherwise. */
export function amountsAs<T>(value: T, how: (amount: string) => string): T {
  if (Array.isArray(value)) return value.map((one) => amountsAs(one, how)) as T
  if (value === null || typeof value !== 'object') return value
  if ('amount' in value && 'currency' in value) return { ...value, amount: how(String(value.amount)) }
  return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, amountsAs(one, how)])) as T
}

const placesOf = (currency: string): number => (currency ? digits(currency) : 2)
/** Minor units of a currency in plain major units; as they are typed, and back: NaN where it is no number. */
export const major = (minor: number, currency: string): string => (minor / 10 ** placesOf(currency)).toFixed(placesOf(currency))
export const minorInField = (minor: number, currency: string): string => inField(major(minor, currency))
export const minorOf = (value: Money): number => Math.round(Number(value.amount) * 10 ** placesOf(value.currency))
export const minor = (text: string, currency: string): number => Math.round(numberOf(text) * 10 ** placesOf(currency))

/** Money as people here write it, with a real minus. */
export function money(value: Money | null | undefined, sign = false): string {
  if (!value) return '–'
  const negative = value.amount.startsWith('-')
  const text = written(value.amount.replace('-', ''))
  const mark = SIGNS[value.currency]
  const whole = !mark ? `${text} ${value.currency}` : place.sign_after ? `${text} ${mark}` : mark + text
  return (negative ? '−' : sign && Number(value.amount) > 0 ? '+' : '') + whole
}
/** An amount in major units, which is worked out here for a picture alone. */
export const amountOf = (value: number, currency: string, sign = false): string =>
  currency ? money({ amount: value.toFixed(digits(currency)), currency }, sign) : '–'

export const number = (value: Money | null | undefined): number => (value ? Number(value.amount) : 0)

export function percent(value: number | null | undefined, places = 1): string {
  if (value === null || value === undefined) return '–'
  return `${fixed(value, places)} %`
}

/** Margin in percent of what is left after tax. */
export function marginOf(profit?: Money | null, net?: Money | null): number | null {
  return profit && net && Number(net.amount) > 0 ? (Number(profit.amount) * 100) / Number(net.amount) : null
}

export const plural = (n: number, one: string, many = one + 's'): string => `${count(n)} ${n === 1 ? one : many}`

type Parts = Partial<Record<Intl.DateTimeFormatPartTypes, string>>
const parted = (zone: string) => {
  const all: Intl.DateTimeFormatOptions = { year: 'numeric', month: 'short', day: 'numeric', weekday: 'short', timeZone: zone }
  const asks = new Intl.DateTimeFormat('en', { ...all, hour: '2-digit', minute: '2-digit', second: '2-digit', hourCycle: 'h23' })
  return (at: string): Parts => Object.fromEntries(asks.formatToParts(new Date(at)).map((one) => [one.type, one.value]))
}
const here = computed(() => parted(place.zone))
const nowhere = parted('UTC')
/** A day of the calendar is in no zone; a moment is shown as the house's clocks show it. */
const partsOf = (at: string): Parts => (at.length === 10 ? nowhere : here.value)(at)
const dayIn = (p: Parts): string => (place.dates === 'dmy' ? `${p.day} ${p.month}` : `${p.month} ${p.day}`)

export const timeOf = (at: string): string => {
  const p = partsOf(at)
  return `${p.hour}:${p.minute}`
}
export const dateOf = (at: string): string => {
  const p = partsOf(at)
  return `${p.weekday} ${dayIn(p)}`
}
export const fullTime = (at: string): string => {
  const p = partsOf(at)
  return `${dateOf(at)} ${p.year}, ${timeOf(at)}:${p.second}, ${place.zone.replaceAll('_', ' ')}`
}

/** How long ago, relative up to a day, then the date. */
export function ago(at: string, now: number): string {
  const minutes = Math.max(0, Math.round((now - Date.parse(at)) / 60_000))
  if (minutes < 1) return 'just now'
  if (minutes < 60) return `${minutes} min`
  const hours = Math.floor(minutes / 60)
  if (hours < 10) return `${hours} h ${String(minutes % 60).padStart(2, '0')}`
  return hours < 24 ? `${hours} h` : dateOf(at)
}

/** A day in short, such as 6 Apr or Apr 6. */
export const dayOf = (day: string): string => dayIn(partsOf(day))

const months = new Intl.DateTimeFormat('en', { month: 'long', year: 'numeric', timeZone: 'UTC' })
/** The month that a day of the calendar is in, such as April 2026. */
export const monthOf = (day: string): string => months.format(Date.parse(day))

/** The day that it is where the house is, as 2026-04-06. */
export const dayHere = (at: number): string => new Intl.DateTimeFormat('en-CA', { timeZone: place.zone }).format(at)

/** Time of day for today, else the date in short; for narrow columns. */
export const dayOrTime = (at: string, now: number): string =>
  now - Date.parse(at) < 86_400_000 && Date.parse(at) <= now + 60_000 ? timeOf(at) : dayOf(at)

export const STATE_WORDS: Record<string, string> = {
  needs_lane: 'Needs a lane',
  held: 'On hold',
  new: 'New',
  ready: 'Ready to send',
  bought: 'Going out',
  with_supplier: 'With supplier',
  refused: 'Refused',
  on_the_road: 'On the road',
  arrived: 'Arrived',
  cancelled: 'Cancelled',
}
export const REASON_WORDS: Record<string, string> = {
  no_lane: 'lane is shut',
  no_rate: 'no exchange rate',
  not_yet: 'begins later',
  supplier_paused: 'its supplier is paused',
  part_bought: 'a part is bought already',
  too_heavy: 'too heavy for the service',
  refused_before: 'was refused before',
  not_sent_there: 'does not send there',
  too_late: 'arrives too late',
  no_stock: 'not in stock',
  spend_limit: 'over the spending limit',
  least_profit: 'under your least profit',
}
