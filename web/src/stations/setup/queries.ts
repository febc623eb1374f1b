/** What this station asks for, with its keys: one place for each, so that no key has two meanings. */
import { ROOT, api, take, type Schema } from '@/api/client'
import type { Document } from './calls'

export const partnersQuery = () => ({ queryKey: ['partners'], queryFn: () => take(api.GET('/api/v1/setup/partners')) })

export const accountsQuery = () => ({ queryKey: ['accounts'], queryFn: () => take(api.GET('/api/v1/accounts')) })

export const carrierNamesQuery = () => ({ queryKey: ['carrier-names'], queryFn: () => take(api.GET('/api/v1/setup/carriers/names')) })

export const placeQuery = () => ({ queryKey: ['place'], queryFn: () => take(api.GET('/api/v1/house/place')) })

export const kindsQuery = () => ({ queryKey: ['kinds'], queryFn: () => take(api.GET('/api/v1/setup/kinds')) })

export const descriptionsQuery = () => ({ queryKey: ['descriptions'], queryFn: () => take(api.GET('/api/v1/setup/descriptions')) })

export const keepingQuery = () => ({ queryKey: ['keeping'], queryFn: () => take(api.GET('/api/v1/house/keeping')) })

export const templatesQuery = () => ({ queryKey: ['templates'], queryFn: () => take(api.GET('/api/v1/transit/templates')) })

export const mailsQuery = () => ({ queryKey: ['mails'], queryFn: () => take(api.GET('/api/v1/world/mail')) })

export const orderingQuery = () => ({ queryKey: ['ordering'], queryFn: () => take(api.GET('/api/v1/ordering')) })

export const secondRuleQuery = () => ({ queryKey: ['second-rule'], queryFn: () => take(api.GET('/api/v1/setup/people/rule')) })

export const myKeysQuery = () => ({ queryKey: ['my-keys'], queryFn: () => take(api.GET('/api/v1/my-keys')) })

export const hereQuery = () => ({ queryKey: ['here'], queryFn: () => take(api.GET('/api/v1/session')) })

export const signInsQuery = () => ({ queryKey: ['sign-ins'], queryFn: () => take(api.GET('/api/v1/session/mine')) })

export const dialsQuery = () => ({ queryKey: ['dials'], queryFn: () => take(api.GET('/api/v1/world/dials')) })

export const workMineQuery = () => ({ queryKey: ['work', 'mine'], queryFn: () => take(api.GET('/api/v1/my-work')) })

export const interfaceQuery = () => ({
  queryKey: ['interface'],
  queryFn: async () => (await (await fetch(`${ROOT}/api/openapi.json`)).json()) as Document,
  meta: { live: false },
})

export const sendingQuery = (supplier: number) => ({
  queryKey: ['sending', supplier],
  queryFn: () => take(api.GET('/api/v1/setup/suppliers/{number}/sending', { params: { path: { number: supplier } } })),
})

export const workQuery = (person: number, days: number) => ({
  queryKey: ['work', person, days],
  queryFn: () => take(api.GET('/api/v1/setup/people/{number}/work', { params: { path: { number: person }, query: { days } } })),
})

/** What ending or pausing a partner would do. */
export const effectQuery = (owner: Schema<'PartnerOut'>['owner'], number: number) => ({
  queryKey: ['partner-effect', owner, number],
  queryFn: () => take(api.GET('/api/v1/setup/partners/{owner}/{number}/effect', { params: { path: { owner, number } } })),
})

export const placeChangesQuery = (place: Schema<'PlaceAsk'>) => ({
  queryKey: ['place', 'changes', place],
  queryFn: () => take(api.POST('/api/v1/house/place/changes', { body: place })),
})

export const sheetsOutQuery = (owner: 'store' | 'supplier', number: number) => ({
  queryKey: ['sheets-out', owner, number],
  queryFn: () => take(api.GET('/api/v1/sheets/out/{owner}/{number}', { params: { path: { owner, number } } })),
})

/** What turning a store's switch on would send. */
export const goingLiveQuery = (store: number, what: 'prices' | 'stock' | 'orders') => ({
  queryKey: ['going-live', store, what],
  queryFn: () => take(api.GET('/api/v1/setup/stores/{number}/out/{what}', { params: { path: { number: store, what } } })),
})
