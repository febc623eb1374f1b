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
