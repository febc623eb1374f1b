/** Who works here: the calls of the page, with their keys, and what is said of a person's role. */
import { api, take, type Schema } from '@/api/client'

/** A role, and what somebody of it is limited to. */
export interface Who {
  role: string
  stores: number[]
  suppliers: number[]
  categories: string[]
}
export const nobody = (role = 'mapper'): Who => ({ role, stores: [], suppliers: [], categories: [] })

export const peopleQuery = () => ({ queryKey: ['people'], queryFn: () => take(api.GET('/api/v1/setup/people')) })
export const rolesQuery = () => ({ queryKey: ['roles'], queryFn: () => take(api.GET('/api/v1/setup/roles')) })

/** What a person's row says of whom they work for; '' where they are not limited. */
export function scopeOf(person: Schema<'PersonOut'>, of: Schema<'RolesOut'> | undefined): string {
  const named = (kind: 'stores' | 'suppliers') =>
    (person.scope[kind] ?? []).map((id) => of?.[kind].find((one) => one.id === id)?.name ?? '').filter(Boolean)
  return [...named('stores'), ...named('suppliers'), ...(person.scope.categories ?? []).map(String)].join(', ')
}
export const whoOf = (person: Schema<'PersonOut'>): Who => ({
  role: person.role,
  stores: (person.scope.stores ?? []).map(Number),
  suppliers: (person.scope.suppliers ?? []).map(Number),
  categories: (person.scope.categories ?? []).map(String),
})
