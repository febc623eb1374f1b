/** What this station asks for, with its keys: one place for each, so that no key has two meanings. */
import { api, take } from '@/api/client'

export const facetsQuery = () => ({ queryKey: ['facets'], queryFn: () => take(api.GET('/api/v1/source/facets')) })

export const savedQuery = () => ({ queryKey: ['saved'], queryFn: () => take(api.GET('/api/v1/source/saved')) })

export const requestsQuery = () => ({ queryKey: ['requests'], queryFn: () => take(api.GET('/api/v1/source/requests')) })

export const samplesQuery = () => ({ queryKey: ['samples'], queryFn: () => take(api.GET('/api/v1/source/samples')) })

export const ownAddressQuery = () => ({ queryKey: ['own-address'], queryFn: () => take(api.GET('/api/v1/source/own-address')) })

export const compareQuery = (ids: number[], store: number) => ({
  queryKey: ['compare', ids, store],
  queryFn: () => take(api.GET('/api/v1/source/items', { params: { query: { store, ids: ids.join(',') } } })),
})

export const itemQuery = (item: number, store: number) => ({
  queryKey: ['item', item, store],
  queryFn: () => take(api.GET('/api/v1/source/items/{number}', { params: { path: { number: item }, query: { store } } })),
})
