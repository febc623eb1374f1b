import { useQueries } from '@tanstack/vue-query'
import { computed, onScopeDispose, reactive, shallowRef, watch, type Ref } from 'vue'
import { wordsOf } from '@/app/messages'
import { queries } from '@/api/cache'
import { idsOf, page } from '@/api/client'

const SIZE = 100
// While somebody types, they are not asked for each letter.
const TYPING_MS = 180

export interface ListAsk {
  words: string
  sort: string
  down: boolean
  filters: string
}
interface Page<R> {
  rows: R[]
  total: number
  /** Which page it is, and of which question. */
  n: number
  of: string
}

const same = (one: ListAsk, other: ListAsk): boolean => JSON.stringify(one) === JSON.stringify(other)

/** One page of a list; it is looked at again when the pulse says that it is old, as every answer. */
const pageQuery = <R>(path: string, ask: ListAsk, n: number) => ({
  queryKey: ['list', path, ask, n],
  queryFn: async (): Promise<Page<R>> =>
    Object.assign(await page<R>(path, { ...ask, offset: n * SIZE, limit: SIZE }), { n, of: JSON.stringify(ask) }),
  staleTime: 30_000,
})

/** A long list that lives on the server: its pages come when their rows are looked at. */
export function usePages<R>(path: string, ask: Ref<ListAsk>) {
  const wanted = shallowRef([0])
  const asked = shallowRef({ ...ask.value })
  const answers = useQueries({ queries: computed(() => wanted.value.map((n) => pageQuery<R>(path, asked.value, n))) }, queries)
  // Of the question that was answered last; it stays, dimmed, until the next one is answered, and is never taken for its answer.
  const shown = shallowRef<{ of: string; rows: Map<number, R[]>; total: number | null }>({ of: '', rows: new Map(), total: null })
  const late = shallowRef(false)
  watch(
    [answers, asked],
    () => {
      const of = JSON.stringify(asked.value)
      const came = answers.value.filter((one) => one.data?.of === of)
      if (!came.length) return
      const newest = came.reduce((one, other) => (other.dataUpdatedAt > one.dataUpdatedAt ? other : one))
      shown.value = { of, rows: new Map(came.map((one) => [one.data!.n, one.data!.rows as R[]])), total: newest.data!.total }
    },
    { immediate: true },
  )
  const rows = computed(() => shown.value.rows)
  const total = computed(() => shown.value.total)
  // old: the rows shown answer the question before; late: nothing came for a while.
  const state = reactive({
    error: computed(() => {
      const failed = answers.value.find((one) => one.error)
      return failed ? wordsOf(failed.error) : ''
    }),
    old: computed(() => shown.value.total !== null && shown.value.of !== JSON.stringify(asked.value)),
    late,
  })

  let timer: ReturnType<typeof setTimeout> | undefined
  watch(ask, (now, before) => {
    if (same(now, before)) return
    clearTimeout(timer)
    const put = () => {
      wanted.value = [0]
      asked.value = { ...now }
    }
    timer = setTimeout(put, now.words === before.words ? 0 : TYPING_MS)
  })
  const slow = setTimeout(() => (late.value = true), 150)
  onScopeDispose(() => {
    clearTimeout(timer)
    clearTimeout(slow)
  })

  function see(first: number, last: number) {
    const [from, to] = [Math.floor(first / SIZE), Math.floor(last / SIZE)]
    const now = Array.from({ length: to - from + 1 }, (_, n) => from + n)
    if (String(now) !== String(wanted.value)) wanted.value = now
  }
  const refresh = () => void queries.invalidateQueries({ queryKey: ['list', path] })

  /** The numbers of rows from one place to another, both in, whether they were shown or not; without a place all that fit. */
  async function ids(from = 0, to = -1): Promise<number[]> {
    const most = to < 0 ? 0 : to - from + 1
    return (await idsOf(path, { ...ask.value, offset: from, most })).ids
  }

  const at = (index: number): R | undefined => rows.value.get(Math.floor(index / SIZE))?.[index % SIZE]
  /** Where a row stands, among the pages that are looked at; null where none fits. */
  function placeOf(fits: (row: R) => boolean): number | null {
    for (const [n, some] of rows.value) {
      const place = some.findIndex(fits)
      if (place >= 0) return n * SIZE + place
    }
    return null
  }
  /** A row of this question that has come, also where it was scrolled away. */
  const find = (fits: (row: R) => boolean): R | undefined =>
    queries
      .getQueriesData<Page<R>>({ queryKey: ['list', path, asked.value] })
      .flatMap(([, one]) => one?.rows ?? [])
      .find(fits)
  return { at, placeOf, find, total, state, see, refresh, rows, ids }
}
