import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { ListAsk } from './pages'

/** What a list shows, kept in the address bar so that a view can be bookmarked and sent. */
export function useAsk(filters: () => string, first: () => { sort: string; down: boolean } = () => ({ sort: '', down: false })) {
  const route = useRoute()
  const router = useRouter()
  const text = (key: string): string => (typeof route.query[key] === 'string' ? (route.query[key] as string) : '')
  const ask = computed<ListAsk>(() => ({
    words: text('words'),
    sort: text('sort') || first().sort,
    down: route.query.sort ? text('down') === '1' : first().down,
    filters: filters(),
  }))
  function set(values: Record<string, string | undefined>) {
    const query = { ...route.query, ...values }
    for (const key of Object.keys(query)) if (query[key] === undefined || query[key] === '') delete query[key]
    void router.replace({ query })
  }
  const sort = (key: string, down: boolean) => set({ sort: key, down: down ? '1' : undefined })
  const sheet = (list: string, form: 'csv' | 'xlsx') =>
    `api/v1/sheets/lists/${list}.${form}?${new URLSearchParams({ words: ask.value.words, sort: ask.value.sort, down: String(ask.value.down), filters: ask.value.filters })}`
  return { ask, set, sort, text, sheet }
}
