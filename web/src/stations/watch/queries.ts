/** What this station asks for, with its keys: one place for each, so that no key has two meanings. */
import { api, take } from '@/api/client'

export const callsQuery = () => ({ queryKey: ['calls'], queryFn: () => take(api.GET('/api/v1/watch/calls')) })

export const differencesQuery = () => ({ queryKey: ['differences'], queryFn: () => take(api.GET('/api/v1/watch/differences')) })

export const doubtsQuery = () => ({ queryKey: ['doubts'], queryFn: () => take(api.GET('/api/v1/watch/doubts')) })

export const groupsQuery = () => ({ queryKey: ['groups'], queryFn: () => take(api.GET('/api/v1/watch/groups')) })

export const tallyQuery = () => ({ queryKey: ['tally'], queryFn: () => take(api.GET('/api/v1/watch/tally')) })

export const stripsQuery = () => ({
  queryKey: ['strips'],
  queryFn: () => take(api.GET('/api/v1/watch/strips', { params: { query: { hours: 15 } } })),
})

export const itemPageQuery = (item: number) => ({
  queryKey: ['item-page', item],
  queryFn: () => take(api.GET('/api/v1/watch/items/{number}', { params: { path: { number: item } } })),
})

export const sweepQuery = (sweep: number) => ({
  queryKey: ['sweep', sweep],
  queryFn: () => take(api.GET('/api/v1/watch/sweeps/{sweep}', { params: { path: { sweep } } })),
})
