/** What an address of one's own can be told of. */
import type { Schema } from '@/api/client'

export const EVENTS: Record<Schema<'EventGroup'>, string> = {
  orders_new: 'new orders',
  orders: 'what becomes of orders',
  purchases: 'purchase orders',
  parcels: 'parcels',
  cases: 'cases and returns',
  prices: 'prices and stock',
  listings: 'listings',
  lanes: 'lanes',
  depot: 'depot and loads',
  books: 'statements and months',
}
