/** Open a lane to an item; one that is there already is confirmed where it was shut, and else put in its place. */
import { api, take, type Schema } from '@/api/client'

export function settle(sku: number, one: Schema<'OfferOut'>, use: number, units: string): Promise<{ message: string }> {
  if (!one.lane)
    return take(api.POST('/api/v1/lanes', { body: { sku_id: sku, parts: [{ item_id: one.item_id, units }], use, instead: false } }))
  const path = { path: { number: one.lane } }
  const version = one.lane_version
  return one.lane_state === 'shut'
    ? take(api.POST('/api/v1/lanes/{number}/confirm', { params: path, body: { version, units } }))
    : take(api.PATCH('/api/v1/lanes/{number}', { params: path, body: { version, use, units, reason: '' } }))
}
