/** What the depot's views ask for, with its keys, and the words of its states. */
import { ROOT, api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import { dayOf } from '@/parts/format'

export type Held = Schema<'HeldRow'>
export type HeldFull = Schema<'HeldGoodsOut'>
export type Load = Schema<'LoadOut'>
export type LoadLine = Schema<'LoadLineOut'>
export type Worth = Schema<'WorthRow'>
export type Asked = Schema<'AskedRow'>

const path = (number: number) => ({ params: { path: { number } } })
export const aheadQuery = () => ({ queryKey: ['depot', 'ahead'], queryFn: () => take(api.GET('/api/v1/depot')) })
export const heldQuery = (number: number, order?: number) => ({
  queryKey: ['depot', 'held', number, order],
  queryFn: () => take(api.GET('/api/v1/depot/goods/{number}', { params: { path: { number }, query: { order } } })),
  enabled: number > 0,
})
export const worthQuery = () => ({ queryKey: ['depot', 'worth'], queryFn: () => take(api.GET('/api/v1/depot/worth')) })
export const worthOfQuery = (sku: number, times: number) => ({
  queryKey: ['depot', 'worth', sku, times],
  queryFn: () => take(api.GET('/api/v1/depot/worth/{sku}', { params: { path: { sku }, query: { times } } })),
  enabled: sku > 0,
})
export const loadsQuery = () => ({ queryKey: ['depot', 'loads'], queryFn: () => take(api.GET('/api/v1/depot/loads')) })
export const ledgerQuery = (number: number) => ({
  queryKey: ['depot', 'ledger', number],
  queryFn: () => take(api.GET('/api/v1/depot/goods/{number}/ledger', path(number))),
  enabled: number > 0,
})
export const slowQuery = () => ({ queryKey: ['depot', 'slow'], queryFn: () => take(api.GET('/api/v1/depot/slow')) })
export const planQuery = (budget: number | null, litres: number | null) => ({
  queryKey: ['depot', 'plan', budget, litres],
  queryFn: () => take(api.GET('/api/v1/depot/plan', { params: { query: { budget, litres } } })),
})
export const wishesQuery = () => ({ queryKey: ['depot', 'wishes'], queryFn: () => take(api.GET('/api/v1/depot/wishes')) })
export const termsQuery = (depot: number) => ({
  queryKey: ['depot', 'terms', depot],
  queryFn: () => take(api.GET('/api/v1/depot/terms/{depot}', { params: { path: { depot } } })),
  enabled: depot > 0,
})

export const order = (lines: { held: number; units: number }[]) => act(() => take(api.POST('/api/v1/depot/order', { body: { lines } })))
export const notNow = (held: number, days = 7) =>
  act(() => take(api.POST('/api/v1/depot/goods/{number}/not-now', { ...path(held), body: { days } })))
export const openLane = (held: number, use: number) =>
  act(() => take(api.POST('/api/v1/depot/goods/{number}/lane', { ...path(held), body: { use } })))
export const settle = (line: { id: number; version: number }, how: 'claim' | 'written_off') =>
  act(() => take(api.POST('/api/v1/depot/lines/{number}/settle', { ...path(line.id), body: { version: line.version, how } })))
export const countAgain = (load: { id: number; version: number }) =>
  act(() => take(api.POST('/api/v1/depot/loads/{number}/count-again', { ...path(load.id), body: { version: load.version } })))
export const orderLoad = (load: Load) =>
  act(() => take(api.POST('/api/v1/depot/loads/{number}/order', { ...path(load.id), body: { version: load.version } })))
export const loadLeft = (load: Load) =>
  act(() => take(api.POST('/api/v1/depot/loads/{number}/left', { ...path(load.id), body: { version: load.version, tracking: '' } })))
export const dropLoad = (load: Load) =>
  act(() => take(api.POST('/api/v1/depot/loads/{number}/drop', { ...path(load.id), body: { version: load.version } })))
export const paper = (load: Load, name: 'labels' | 'packing' | 'despatch', sheets = false): string =>
  `${ROOT}/api/v1/depot/loads/${load.id}/papers/${name}${sheets ? '?sheets=true' : ''}`

/** The steps of a load, in their order, with when each was. */
export const STEPS: { state: string; label: string; at: (one: Load) => string | null | undefined }[] = [
  { state: 'planned', label: 'put together', at: (one) => one.made_at },
  { state: 'ordered', label: 'bought', at: (one) => one.ordered_at },
  { state: 'on_the_way', label: 'on the way', at: (one) => one.left_at },
  { state: 'at_gate', label: 'at the gate', at: (one) => one.reached_at },
  { state: 'counted', label: 'counted in', at: (one) => one.counted_at },
]
export const LOAD_WORDS: Record<string, string> = {
  planned: 'Not ordered yet',
  ordered: 'Bought',
  on_the_way: 'On the way',
  at_gate: 'At the gate',
  counted: 'Counted in',
  refused: 'Refused',
  cancelled: 'Dropped',
}
export const HELD_WORDS: Record<string, string> = {
  asked: 'Waits for an answer',
  question: 'Asks something',
  agreed: 'Will hold it',
  refused: 'Will not hold it',
  ended: 'No more is sent',
}
export const ENTRY_WORDS: Record<string, string> = {
  counted_in: 'Counted in',
  sent: 'Sent to a buyer',
  returned: 'Came back',
  damaged: 'Damaged there',
  lost: 'Lost there',
  found: 'Found',
  counted: 'By a count',
  written_off: 'Written off',
  sent_back: 'Sent back',
}

/** A day of the picture as its date; 0 = today. */
export function dayAt(today: string, day: number): string {
  const at = new Date(`${today}T00:00:00Z`)
  at.setUTCDate(at.getUTCDate() + day)
  return dayOf(at.toISOString().slice(0, 10))
}
export const chance = (part: number): string =>
  part > 0 && part < 0.01 ? 'under 1 %' : part > 0.99 && part < 1 ? 'over 99 %' : `${Math.round(part * 100)} %`
