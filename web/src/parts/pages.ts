import { onScopeDispose, reactive, ref, shallowRef, watch, type Ref } from 'vue'
import { live } from '@/app/live'
import { wordsOf } from '@/app/messages'
import { idsOf, page } from '@/api/client'

const SIZE = 100

export interface ListAsk {
  words: string
  sort: string
  down: boolean
  filters: string
}

/** A long list that lives on the server: pages come when their rows are looked at, and are looked at again when the data moves. */
export function usePages<R>(path: string, ask: Ref<ListAsk>) {
  const rows = shallowRef(new Map<number, R[]>())
  const total = ref<number | null>(null)
  // old: the rows shown answer the question before; late: nothing came for a while.
  const state = reactive({ error: '', busy: 0, old: false, late: false })
  let era = 0
  let wanted = new Set<number>([0])
  const flying = new Map<number, number>()

  async function load(n: number, mine: number) {
    if (flying.get(n) === mine) return
    flying.set(n, mine)
    state.busy++
    try {
      const { words, sort, down, filters } = ask.value
      const got = await page<R>(path, { words, sort, down, filters, offset: n * SIZE, limit: SIZE })
      if (mine !== era) return
      const next = state.old ? new Map<number, R[]>() : new Map(rows.value)
      next.set(n, got.rows)
      rows.value = next
      total.value = got.total
      state.error = ''
      state.old = false
    } catch (error) {
      if (mine === era) state.error = wordsOf(error)
    } finally {
      if (flying.get(n) === mine) flying.delete(n)
      state.busy--
    }
  }

  function see(first: number, last: number) {
    wanted = new Set()
    for (let n = Math.floor(first / SIZE); n <= Math.floor(last / SIZE); n++) wanted.add(n)
    for (const n of wanted) if (!rows.value.has(n)) void load(n, era)
  }

  /** Look again at what is on the screen; the rest comes fresh when it is scrolled to. */
  function refresh() {
    era++
    const keep = new Map<number, R[]>()
    for (const n of wanted) if (rows.value.has(n)) keep.set(n, rows.value.get(n)!)
    rows.value = keep
    for (const n of wanted) void load(n, era)
  }

  let timer: ReturnType<typeof setTimeout> | undefined
  watch(ask, (now, before) => {
    if (JSON.stringify(now) === JSON.stringify(before)) return
    clearTimeout(timer)
    timer = setTimeout(
      () => {
        era++
        wanted = new Set([0])
        // Old rows stay, dimmed, until the new ones are there; they are never taken for the answer.
        state.old = rows.value.size > 0 || total.value !== null
        void load(0, era)
      },
      now.words === before.words ? 0 : 180,
    )
  })
  watch(() => live.state.tick, refresh)
  const slow = setTimeout(() => (state.late = true), 150)
  onScopeDispose(() => {
    clearTimeout(timer)
    clearTimeout(slow)
  })
  void load(0, era)

  /** The numbers of rows from one place to another, both in, whether they were shown or not; without a place all that fit. */
  async function ids(from = 0, to = -1): Promise<number[]> {
    const { words, sort, down, filters } = ask.value
    const most = to < 0 ? 0 : to - from + 1
    return (await idsOf(path, { words, sort, down, filters, offset: from, most })).ids
  }

  const at = (index: number): R | undefined => rows.value.get(Math.floor(index / SIZE))?.[index % SIZE]
  /** Where a row stands, among those that have come; null where none fits. */
  function placeOf(fits: (row: R) => boolean): number | null {
    for (const [n, page] of rows.value) {
      const place = page.findIndex(fits)
      if (place >= 0) return n * SIZE + place
    }
    return null
  }
  return { at, placeOf, total, state, see, refresh, rows, ids }
}
