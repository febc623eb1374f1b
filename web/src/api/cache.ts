/** What was asked for, by its keys, for all views together. */
import { QueryClient, replaceEqualDeep } from '@tanstack/vue-query'
import { carryMadeOf } from './madeOf'

/** Rows that are as they were stay the same objects, so that no table of them is drawn anew. */
function shared(before: unknown, now: unknown): unknown {
  const instead = replaceEqualDeep(before, now)
  carryMadeOf(now, instead)
  return instead
}

export const queries = new QueryClient({
  defaultOptions: { queries: { staleTime: 5_000, retry: 1, retryDelay: 300, refetchOnWindowFocus: true, structuralSharing: shared } },
})
