/** What this station asks for, with its keys: one place for each, so that no key has two meanings. */
import { api, take } from '@/api/client'

export const batchesQuery = () => ({ queryKey: ['batches'], queryFn: () => take(api.GET('/api/v1/batches')) })

export const standingQuery = () => ({ queryKey: ['standing'], queryFn: () => take(api.GET('/api/v1/orders/standing')) })

export const orderQuery = (order: number) => ({
  queryKey: ['order', order],
  queryFn: () => take(api.GET('/api/v1/orders/{number}', { params: { path: { number: order } } })),
})
