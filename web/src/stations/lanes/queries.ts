/** What the mapping desk asks for, with its keys; the next SKUs are asked for beforehand, so that they stand there at once. */
import { api, take, type Schema } from '@/api/client'

export const faultsQuery = () => ({ queryKey: ['lane-faults'], queryFn: () => take(api.GET('/api/v1/lanes/faults')) })
export const queueQuery = () => ({ queryKey: ['to-settle'], queryFn: () => take(api.GET('/api/v1/lanes/to-settle')) })

export const skuQuery = (sku: number) => ({
  queryKey: ['sku', sku],
  queryFn: () => take(api.GET('/api/v1/lanes/skus/{sku_id}', { params: { path: { sku_id: sku } } })),
})

export const offersQuery = (sku: number, words: string) => ({
  queryKey: ['offers', sku, words],
  queryFn: () => take(api.GET('/api/v1/lanes/skus/{sku_id}/candidates', { params: { path: { sku_id: sku }, query: { words } } })),
})

export const laneQuery = (lane: number) => ({
  queryKey: ['lane', lane],
  queryFn: () => take(api.GET('/api/v1/lanes/{number}', { params: { path: { number: lane } } })),
})

export const familyQuery = (sku: number) => ({
  queryKey: ['family', sku],
  queryFn: () => take(api.GET('/api/v1/lanes/skus/{sku_id}/family', { params: { path: { sku_id: sku } } })),
})

/** What a lane would do, before it is opened. */
export const previewQuery = (lane: Schema<'OpenAsk'>) => ({
  queryKey: ['preview', lane],
  queryFn: () => take(api.POST('/api/v1/lanes/preview', { body: lane })),
  meta: { live: false },
})
