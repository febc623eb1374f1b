/** What the views of cases ask for, with its keys, and their words. */
import { api, take, type Schema } from '@/api/client'

export type CaseRow = Schema<'ClaimRow'>
export type Case = Schema<'ClaimOut'>

export const casesQuery = (show: 'open' | 'done') => ({
  queryKey: ['claims', show],
  queryFn: () => take(api.GET('/api/v1/claims', { params: { query: { show } } })),
})
export const caseQuery = (number: number) => ({
  queryKey: ['claims', 'one', number],
  queryFn: () => take(api.GET('/api/v1/claims/{number}', { params: { path: { number } } })),
  enabled: number > 0,
})
export const mailsQuery = () => ({ queryKey: ['buyer-mails'], queryFn: () => take(api.GET('/api/v1/buyer-mails')) })
export const mailQuery = (number: number) => ({
  queryKey: ['buyer-mails', number],
  queryFn: () => take(api.GET('/api/v1/buyer-mails/{number}', { params: { path: { number } } })),
})
export const askedQuery = () => ({ queryKey: ['returns', 'asked'], queryFn: () => take(api.GET('/api/v1/returns/asked')) })
export const comingQuery = () => ({ queryKey: ['returns', 'coming'], queryFn: () => take(api.GET('/api/v1/returns')) })
export const returnOfQuery = (number: number) => ({
  queryKey: ['returns', 'of', number],
  queryFn: () => take(api.GET('/api/v1/returns/of-case/{number}', { params: { path: { number } } })),
})
export const canClaimQuery = (line: number) => ({
  queryKey: ['claims', 'line', line],
  queryFn: () => take(api.GET('/api/v1/claims/lines/{number}', { params: { path: { number: line } } })),
})

export const REASONS: Record<string, string> = {
  no_number: 'No tracking number',
  no_movement: 'The parcel does not move',
  lost: 'Lost',
  late: 'Late',
  damaged: 'Damaged',
  defective: 'Defective',
  wrong_item: 'Wrong item',
  missing: 'Item missing',
  not_as_described: 'Not as described',
  changed_mind: 'The buyer changed their mind',
}
export const STATES: Record<string, { label: string; tone: 'waits' | 'good' | 'loss' | 'info' | 'plain' }> = {
  open: { label: 'Not asked yet', tone: 'waits' },
  asked: { label: 'Asked', tone: 'info' },
  question: { label: 'Wants more', tone: 'waits' },
  accepted: { label: 'Accepted', tone: 'good' },
  refused: { label: 'Refused', tone: 'loss' },
  settled: { label: 'Settled', tone: 'good' },
  dropped: { label: 'Let go', tone: 'plain' },
}
export const WAITS: Record<string, string> = { us: 'us', supplier: 'the supplier', nobody: '' }
export const WAYS: Record<string, { label: string; act: string }> = {
  refund: { label: 'Refund now, and claim', act: 'Refund the buyer' },
  again: { label: 'Send again now, and claim', act: 'Send it again' },
  part: { label: 'Pay a part back, they keep it, and claim', act: 'Pay a part back' },
  ask: { label: 'Ask the supplier first', act: 'Let the buyer wait' },
  let_go: { label: 'Do nothing for the buyer', act: 'Do nothing' },
}
export const TERMS: Record<string, string> = {
  refund: 'the buyer gets back',
  tax: 'tax that is not owed',
  fees: 'store fees that come back',
  part: 'paid back',
  back: 'tax and fees that go back',
  otherwise: 'the chance that it does not settle it',
  recovery: 'expected from the supplier',
  again: 'bought and sent once more',
  waiting: 'the chance that the buyer leaves',
  after: 'what follows the answer',
  complains: 'the chance that the buyer complains',
}

export const RETURNS: Record<string, { label: string; tone: 'waits' | 'good' | 'loss' | 'info' | 'plain' }> = {
  agreed: { label: 'The buyer is to send it', tone: 'info' },
  on_the_way: { label: 'On its way back', tone: 'info' },
  arrived: { label: 'Arrived, not looked at', tone: 'waits' },
  looked_at: { label: 'Looked at', tone: 'good' },
  dropped: { label: 'Did not come', tone: 'plain' },
}
export const REFUND_WHEN: Record<string, string> = {
  arrived: 'when it has arrived',
  looked_at: 'when somebody has looked at it',
  sent: 'when the carrier has it',
  at_once: 'now',
}

export const wrongNumbersQuery = () => ({ queryKey: ['wrong-numbers'], queryFn: () => take(api.GET('/api/v1/transit/numbers')) })

export const transitStandingQuery = () => ({ queryKey: ['transit-standing'], queryFn: () => take(api.GET('/api/v1/transit/standing')) })

export const parcelQuery = (parcel: number) => ({
  queryKey: ['parcel', parcel],
  queryFn: () => take(api.GET('/api/v1/transit/parcels/{number}', { params: { path: { number: parcel } } })),
})
