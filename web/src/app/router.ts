import { ROOT } from '@/api/client'
import { createRouter, createWebHistory } from 'vue-router'
import { limited, may, type Permission } from './may'

/** The stations of the road, in the order of the work. A station is here only when it works. */
export const STATIONS: readonly { name: string; label: string; needs: Permission[] }[] = [
  { name: 'today', label: 'Today', needs: [] },
  { name: 'source', label: 'Source', needs: ['see goods', 'see money'] },
  { name: 'shelf', label: 'Shelf', needs: ['see goods', 'see money'] },
  { name: 'lanes', label: 'Lanes', needs: ['see goods'] },
  { name: 'price', label: 'Price', needs: ['see goods', 'see money'] },
  { name: 'watch', label: 'Watch', needs: ['see goods', 'see money'] },
  { name: 'orders', label: 'Orders', needs: ['see orders', 'see money'] },
  { name: 'transit', label: 'Transit', needs: ['see orders', 'see money'] },
  { name: 'depot', label: 'Depot', needs: ['see goods', 'see money'] },
  { name: 'books', label: 'Books', needs: ['see books'] },
]
/** What looks to the stores, suppliers and categories that somebody is limited to. */
const OF_LIMITED = ['today', 'lanes', 'transit', 'setup', 'approvals']
/** Whether a station is one that they may open. */
export const opens = (name: string): boolean =>
  may(...(STATIONS.find((one) => one.name === name)?.needs ?? [])) && (!limited.value || OF_LIMITED.includes(name))

export const router = createRouter({
  history: createWebHistory(`${ROOT}/`),
  routes: [
    { path: '/', redirect: '/today' },
    { path: '/today', name: 'today', component: () => import('@/stations/today/Today.vue') },
    { path: '/today/approvals', name: 'approvals', meta: { station: 'today' }, component: () => import('@/stations/today/Approvals.vue') },
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
    { path: '/item/:id', name: 'item', meta: { station: 'watch' }, component: () => import('@/stations/watch/ItemPage.vue') },
    { path: '/orders', name: 'orders', component: () => import('@/stations/orders/Orders.vue') },
    { path: '/transit', name: 'transit', component: () => import('@/stations/transit/Transit.vue') },
    { path: '/depot', name: 'depot', component: () => import('@/stations/depot/Depot.vue') },
    { path: '/books', name: 'books', component: () => import('@/stations/books/Books.vue') },
    {
      path: '/setup/signed-in',
      name: 'signed-in',
      meta: { station: 'setup' },
      component: () => import('@/stations/setup/describe/SignedIn.vue'),
    },
    { path: '/setup/:part?', name: 'setup', component: () => import('@/stations/setup/Setup.vue') },
    { path: '/:rest(.*)*', name: 'nowhere', component: () => import('./Nowhere.vue') },
  ],
})
