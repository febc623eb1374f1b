/** What this station asks for, with its keys: one place for each, so that no key has two meanings. */
import { api, take, type Schema } from '@/api/client'

export const feesQuery = () => ({ queryKey: ['fees'], queryFn: () => take(api.GET('/api/v1/prices/fees')) })

export const plansQuery = () => ({ queryKey: ['plans'], queryFn: () => take(api.GET('/api/v1/prices/plans')) })

export const ratesQuery = () => ({ queryKey: ['rates'], queryFn: () => take(api.GET('/api/v1/prices/rates')) })

export const rulesQuery = () => ({ queryKey: ['rules'], queryFn: () => take(api.GET('/api/v1/prices/rules')) })

export const policyQuery = () => ({ queryKey: ['policy'], queryFn: () => take(api.GET('/api/v1/prices/policy')) })

export const scopesQuery = () => ({ queryKey: ['scopes'], queryFn: () => take(api.GET('/api/v1/prices/scopes')) })

/** What a change would do, looked at before it is made. */
export const whatIfQuery = (draft: Schema<'WhatIfAsk'>) => ({
  queryKey: ['what-if', draft],
  queryFn: () => take(api.POST('/api/v1/prices/what-if', { body: draft })),
})

/** Why a price is what it is: of a listing as it stands, or of a decision of the past. */
export const reasonQuery = (of: 'listing' | 'response', number: number) => ({
  queryKey: ['reason', of, number],
  queryFn: (): Promise<Schema<'ExplanationOut'>> =>
    of === 'response'
      ? take(api.GET('/api/v1/prices/responses/{number}/why', { params: { path: { number } } }))
      : take(api.GET('/api/v1/prices/listings/{number}/why', { params: { path: { number } } })),
})

export const historyQuery = (listing: number) => ({
  queryKey: ['price-history', listing],
  queryFn: () => take(api.GET('/api/v1/prices/listings/{number}/history', { params: { path: { number: listing } } })),
})
