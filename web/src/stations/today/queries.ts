/** What this station asks for, with its keys: one place for each, so that no key has two meanings. */
import { api, take } from '@/api/client'

export const approvalsQuery = () => ({ queryKey: ['approvals'], queryFn: () => take(api.GET('/api/v1/approvals')) })

export const todayQuery = () => ({ queryKey: ['today'], queryFn: () => take(api.GET('/api/v1/today')) })

export const firstStepsQuery = () => ({ queryKey: ['first-steps'], queryFn: () => take(api.GET('/api/v1/house/steps')) })

/** Who may be given work of a station. */
export const helpersQuery = (station: string) => ({
  queryKey: ['helpers', station],
  queryFn: () => take(api.GET('/api/v1/today/helpers', { params: { query: { station } } })),
  meta: { live: false },
})
