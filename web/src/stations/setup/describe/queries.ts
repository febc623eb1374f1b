/** What is asked of the server about descriptions, each with its key. */
import { api, take } from '@/api/client'

export const allDescriptions = () => ({ queryKey: ['descriptions'], queryFn: () => take(api.GET('/api/v1/setup/descriptions')) })
export const oneDescription = (number: number) => ({
  queryKey: ['description', number],
  queryFn: () => take(api.GET('/api/v1/setup/descriptions/{number}', { params: { path: { number } } })),
})
export const shapes = () => ({
  queryKey: ['description-shapes'],
  queryFn: () => take(api.GET('/api/v1/setup/descriptions/shapes')),
  staleTime: Infinity,
  meta: { live: false },
})

/** What a newer version says otherwise than the one in use. */
export const differencesQuery = (number: number, since: number) => ({
  queryKey: ['description-differences', number, since],
  queryFn: () => take(api.GET('/api/v1/setup/descriptions/{number}/differences', { params: { path: { number }, query: { since } } })),
})
