/** What this station asks for, with its keys: one place for each, so that no key has two meanings. */
import { api, take } from '@/api/client'

export const phrasesQuery = () => ({ queryKey: ['phrases'], queryFn: () => take(api.GET('/api/v1/shelf/phrases')) })

export const shelfStoresQuery = () => ({ queryKey: ['shelf-stores'], queryFn: () => take(api.GET('/api/v1/shelf/stores')) })

export const shelfListingQuery = (listing: number) => ({
  queryKey: ['shelf-listing', listing],
  queryFn: () => take(api.GET('/api/v1/shelf/listings/{number}', { params: { path: { number: listing } } })),
})

export const allowanceQuery = (store: number, hours: number) => ({
  queryKey: ['allowance', store, hours],
  queryFn: () => take(api.GET('/api/v1/shelf/stores/{number}/allowance', { params: { path: { number: store }, query: { hours } } })),
  meta: { live: false },
})
