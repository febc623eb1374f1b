/** What this station asks for, with its keys: one place for each, so that no key has two meanings. */
import { api, take } from '@/api/client'

export const mineQuery = () => ({ queryKey: ['mine'], queryFn: () => take(api.GET('/api/v1/mine/purchases')) })
