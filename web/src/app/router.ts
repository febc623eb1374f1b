import { ROOT } from '@/api/client'
import { createRouter, createWebHistory } from 'vue-router'

/** The stations of the road, in the order of the work. A station is here only when it works. */
export const STATIONS = [
  { name: 'today', label: 'Today' },
  { name: 'source', label: 'Source' },
  { name: 'shelf', label: 'Shelf' },
  { name: 'lanes', label: 'Lanes' },
  { name: 'price', label: 'Price' },
  { name: 'watch', label: 'Watch' },
  { name: 'orders', label: 'Orders' },
  { name: 'transit', label: 'Transit' },
  { name: 'depot', label: 'Depot' },
  { name: 'books', label: 'Books' },
] as const

export const router = createRouter({
  history: createWebHistory(`${ROOT}/`),
  routes: [
    { path: '/', redirect: '/today' },
    { path: '/today', name: 'today', component: () => import('@/stations/today/Today.vue') },
    { path: '/source', name: 'source', component: () => import('@/stations/source/Source.vue') },
    { path: '/shelf', name: 'shelf', component: () => import('@/stations/shelf/Shelf.vue') },
    { path: '/shelf/print', name: 'print', meta: { station: 'shelf' }, component: () => import('@/stations/print/Printed.vue') },
    {
      path: '/shelf/print/:design',
      name: 'design',
      meta: { station: 'shelf' },
      component: () => import('@/stations/print/DesignPage.vue'),
    },
    { path: '/lanes', name: 'lanes', component: () => import('@/stations/lanes/Lanes.vue') },
    { path: '/price', name: 'price', component: () => import('@/stations/price/Price.vue') },
    { path: '/watch', name: 'watch', component: () => import('@/stations/watch/Watch.vue') },
    { path: '/item/:id', name: 'item', component: () => import('@/stations/watch/ItemPage.vue') },
    { path: '/orders', name: 'orders', component: () => import('@/stations/orders/Orders.vue') },
    { path: '/transit', name: 'transit', component: () => import('@/stations/transit/Transit.vue') },
    { path: '/depot', name: 'depot', component: () => import('@/stations/depot/Depot.vue') },
    { path: '/books', name: 'books', component: () => import('@/stations/books/Books.vue') },
    { path: '/setup/:part?', name: 'setup', component: () => import('@/stations/setup/Setup.vue') },
    { path: '/:rest(.*)*', name: 'nowhere', component: () => import('./Nowhere.vue') },
  ],
})
