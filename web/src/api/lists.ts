import type { Schema } from './client'

/** The address of a list, which knows the shape of its rows. */
export type ListPath<R> = string & { readonly row?: R }

export const LISTS = {
  goods: '/api/v1/source/search' as ListPath<Schema<'ItemRow'>>,
  shelf: '/api/v1/shelf' as ListPath<Schema<'ShelfRow'>>,
  lanes: '/api/v1/lanes' as ListPath<Schema<'LaneRow'>>,
  listings: '/api/v1/prices/listings' as ListPath<Schema<'ListingRow'>>,
  responses: '/api/v1/watch/responses' as ListPath<Schema<'ResponseOut'>>,
  orders: '/api/v1/orders' as ListPath<Schema<'OrderRow'>>,
  parcels: '/api/v1/transit/parcels' as ListPath<Schema<'ParcelRow'>>,
  troubled: '/api/v1/transit/troubled' as ListPath<Schema<'ParcelRow'>>,
  acts: '/api/v1/acts' as ListPath<Schema<'ActOut'>>,
  outbox: '/api/v1/outbox' as ListPath<Schema<'OutboxOut'>>,
}

/** What the server calls a list of this path. */
export const nameOf = (path: string): string => Object.entries(LISTS).find(([, one]) => one === path)?.[0] ?? ''
