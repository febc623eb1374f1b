import { computed, reactive } from 'vue'
import type { Money } from '@/api/client'

/** Where the house is: its time zone, and the order of day and month. Said by the server at sign-in. */
export const place = reactive({ zone: 'UTC', dates: 'dmy', country: '' })

/** Signs that say one currency and no other; all others go by their code. As on the server. */
export const SIGNS: Record<string, string> = { GBP: '£', EUR: '€', USD: '$', JPY: '¥' }

/** How many decimals a currency has. */
export const digits = (currency: string): number =>
  new Intl.NumberFormat('en', { style: 'currency', currency }).resolvedOptions().maximumFractionDigits ?? 2

/** Minor units of a currency as they are typed, and back: NaN where it is no number. */
export const major = (minor: number, currency: string): string => {
  const places = currency ? digits(currency) : 2
  return (minor / 10 ** places).toFixed(places)
}
export const minor = (text: string, currency: string): number => {
  const value = Number(text.trim().replace(',', '.'))
  return Math.round(value * 10 ** (currency ? digits(currency) : 2))
}

/** Money as people write it, with a real minus. */
export function money(value: Money | null | undefined, sign = false): string {
  if (!value) return '–'
  const negative = value.amount.startsWith('-')
  const [whole = '0', part] = value.amount.replace('-', '').split('.')
  const digits = whole.replace(/\B(?=(\d{3})+(?!\d))/g, ',') + (part ? `.${part}` : '')
  const mark = SIGNS[value.currency]
  const text = mark ? mark + digits : `${digits} ${value.currency}`
  return (negative ? '−' : sign && Number(value.amount) > 0 ? '+' : '') + text
}

export const number = (value: Money | null | undefined): number => (value ? Number(value.amount) : 0)

export function percent(value: number | null | undefined, places = 1): string {
  if (value === null || value === undefined) return '–'
  return `${value < 0 ? '−' : ''}${Math.abs(value).toFixed(places)} %`
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
  return `${dateOf(at)} ${p.year}, ${timeOf(at)}:${p.second}, ${place.zone.replace('_', ' ')}`
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

/** A whole number as people write it. */
const whole = new Intl.NumberFormat('en')
export const count = (n: number): string => whole.format(n)
