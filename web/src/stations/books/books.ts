/** Periods of Books, kept in the address, and what its views ask for. */
import { computed } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { useAsk } from '@/parts/ask'
import { dayHere, dayOf } from '@/parts/format'
import { live } from '@/app/live'

export type By = 'order' | 'sku' | 'category' | 'supplier' | 'item' | 'artwork' | 'store' | 'country' | 'day' | 'week' | 'month'
export type Effect = 'new' | 'ended' | 'volume' | 'mix' | 'price' | 'cost' | 'fees' | 'other'
export type Figures = Schema<'FiguresOut'>

export const BYS: { key: By; label: string }[] = [
  { key: 'supplier', label: 'Supplier' },
  { key: 'sku', label: 'SKU' },
  { key: 'store', label: 'Store' },
  { key: 'category', label: 'Category' },
  { key: 'country', label: 'Country' },
  { key: 'item', label: 'Item' },
  { key: 'artwork', label: 'Artwork' },
  { key: 'order', label: 'Order' },
  { key: 'day', label: 'Day' },
  { key: 'week', label: 'Week' },
  { key: 'month', label: 'Month' },
]
/** Columns that may be taken out of sight. */
export const COLUMNS: [string, string][] = [
  ['orders', 'Orders'],
  ['units', 'Units'],
  ['net', 'Net revenue'],
  ['fees', 'Fees'],
  ['goods', 'Goods'],
  ['sending', 'Sending'],
  ['refunds', 'Refunds'],
  ['other', 'Other'],
  ['margin', 'Margin'],
  ['change', 'Change'],
]
export const PERIODS = [
  { key: 'week', label: 'This week' },
  { key: 'last-week', label: 'Last week' },
  { key: '28', label: 'Last 28 days' },
  { key: 'month', label: 'This month' },
  { key: 'last-month', label: 'Last month' },
  { key: 'own', label: 'From … to' },
]
/** What the kinds of the journal are called. */
export const KINDS: Record<string, string> = {
  sale: 'Sale',
  shipping_paid: 'Sending, paid by the buyer',
  discount: 'Discount',
  tax: 'Tax',
  store_fee: 'Store fee',
  payment_fee: 'Payment fee',
  goods: 'Goods',
  supplier_tax: 'Tax of the supplier',
  shipping: 'Shipping',
  handling: 'Handling',
  refund: 'Refund',
  fee_back: 'Fee given back',
  claim: 'Claim paid',
  return_cost: 'Cost of the return',
  rebate: 'Rebate',
  plan_fee: 'Fee of a plan',
  sample: 'Sample',
  overhead: 'Fixed cost',
  rate_difference: 'Rate difference',
  correction: 'Adjustment of the store',
  prepaid: 'Paid by the buyer',
  payout: 'Paid out by the store',
  supplier_paid: 'Paid to the supplier',
}
/** Why an entry differs from what was planned at buying. */
export const BASES: Record<string, string> = {
  planned: 'as planned',
  bill: 'bill',
  weight: 'weight',
  rate: 'rate',
  fee: 'fee the store took',
  refund: 'refund',
  reversal: 'taken back',
  statement: 'statement',
}

const DAY = 86_400_000
const iso = (at: number) => new Date(at).toISOString().slice(0, 10)
/** The day that it is where the house is; what depends on it is looked at again at midnight, and not each second. */
const today = computed(() => Date.parse(dayHere(live.now.value)))

/** First and last day of a period by its name; both ends in. */
export function daysOf(name: string, from: string, to: string, day: number): { first: string; last: string } {
  const at = new Date(day)
  const monday = day - ((at.getUTCDay() + 6) % 7) * DAY
  const [year, month] = [at.getUTCFullYear(), at.getUTCMonth()]
  if (name === 'own' && from && to) return { first: from <= to ? from : to, last: from <= to ? to : from }
  if (name === 'last-week') return { first: iso(monday - 7 * DAY), last: iso(monday - DAY) }
  if (name === 'week') return { first: iso(monday), last: iso(day) }
  if (name === 'month') return { first: iso(Date.UTC(year, month, 1)), last: iso(day) }
  if (name === 'last-month') return { first: iso(Date.UTC(year, month - 1, 1)), last: iso(Date.UTC(year, month, 0)) }
  return { first: iso(day - 28 * DAY), last: iso(day - DAY) }
}

/** What the address says of the period, the rows and what they are narrowed down to. */
export function useBooks() {
  const { set, text } = useAsk(() => '')
  const period = computed(() => text('period') || '28')
  const days = computed(() => daysOf(period.value, text('from'), text('to'), today.value))
  const against = computed<'before' | 'year'>(() => (text('against') === 'year' ? 'year' : 'before'))
  const only = computed(() => text('only'))
  const by = computed<By>(() => (BYS.some((one) => one.key === text('by')) ? (text('by') as By) : 'supplier'))
  /** What every view asks with. */
  const query = computed(() => ({ ...days.value, against: against.value, only: only.value }))
  const told = computed(() => `${dayOf(days.value.first)} to ${dayOf(days.value.last)}`)
  /** Columns that are not shown. */
  const hidden = computed(() => new Set(text('hide').split(',').filter(Boolean)))
  return { set, text, period, days, against, only, by, query, told, hidden }
}

export interface TableAsk {
  first: string
  last: string
  against: 'before' | 'year'
  only: string
  by: By
  sort: string
  down: boolean
  limit: number
}
export const profitQuery = (ask: TableAsk) => ({
  queryKey: ['books', 'profit', ask],
  queryFn: () => take(api.GET('/api/v1/books/profit', { params: { query: ask } })),
})
type Ask = Pick<TableAsk, 'first' | 'last' | 'against' | 'only'>
export const whyQuery = (ask: Ask) => ({
  queryKey: ['books', 'why', ask],
  queryFn: () => take(api.GET('/api/v1/books/why', { params: { query: ask } })),
})
export const effectQuery = (effect: Effect, ask: Ask) => ({
  queryKey: ['books', 'effect', effect, ask],
  queryFn: () => take(api.GET('/api/v1/books/why/{effect}', { params: { path: { effect }, query: ask } })),
})
export const daysQuery = (ask: Pick<Ask, 'first' | 'last' | 'only'>) => ({
  queryKey: ['books', 'days', ask],
  queryFn: () => take(api.GET('/api/v1/books/days', { params: { query: ask } })),
})
export const crossQuery = (by: By, across: By, figure: string, ask: Pick<Ask, 'first' | 'last' | 'only'>) => ({
  queryKey: ['books', 'cross', by, across, figure, ask],
  queryFn: () => take(api.GET('/api/v1/books/cross', { params: { query: { by, across, figure, ...ask } } })),
})
export interface Number {
  by: By
  key?: number
  figure: string
  name: string
}
export const entriesQuery = (of: Number, ask: Pick<Ask, 'first' | 'last' | 'only'>, offset: number) => ({
  queryKey: ['books', 'entries', of, ask, offset],
  queryFn: () =>
    take(
      api.GET('/api/v1/books/entries', {
        params: { query: { ...ask, by: of.by, figure: of.figure, ...(of.key === undefined ? {} : { key: of.key }), offset } },
      }),
    ),
})
export const orderQuery = (order: number) => ({
  queryKey: ['books', 'order', order],
  queryFn: () => take(api.GET('/api/v1/books/orders/{number}', { params: { path: { number: order } } })),
})
export const rankingQuery = (group: string) => ({
  queryKey: ['books', 'ranking', group],
  queryFn: () => take(api.GET('/api/v1/books/ranking', { params: { query: { group } } })),
})
export const stepsQuery = (sku: number) => ({
  queryKey: ['books', 'steps', sku],
  queryFn: () => take(api.GET('/api/v1/books/ranking/{sku}/steps', { params: { path: { sku } } })),
})
export const settlementsQuery = () => ({ queryKey: ['books', 'settlements'], queryFn: () => take(api.GET('/api/v1/books/settlements')) })
export const statementsQuery = () => ({ queryKey: ['books', 'statements'], queryFn: () => take(api.GET('/api/v1/books/statements')) })
export const partnersQuery = () => ({ queryKey: ['books', 'partners'], queryFn: () => take(api.GET('/api/v1/books/partners')) })
export const costsQuery = () => ({ queryKey: ['books', 'costs'], queryFn: () => take(api.GET('/api/v1/books/costs')) })
export const weeklyQuery = () => ({ queryKey: ['books', 'weekly'], queryFn: () => take(api.GET('/api/v1/books/weekly')) })
export const taxQuery = (ask: Pick<Ask, 'first' | 'last'>) => ({
  queryKey: ['books', 'tax', ask],
  queryFn: () => take(api.GET('/api/v1/books/tax', { params: { query: ask } })),
})
