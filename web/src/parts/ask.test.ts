import { computed, nextTick, reactive } from 'vue'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { useAsk } from './ask'

/** The address bar: one query at a time, without what is empty. */
const route = reactive<{ query: Record<string, string | string[]> }>({ query: {} })
const replaced: Record<string, unknown>[] = []
vi.mock('vue-router', () => ({
  useRoute: () => route,
  useRouter: () => ({
    replace: async ({ query }: { query: Record<string, string> }) => {
      replaced.push(query)
      route.query = query
    },
  }),
}))

beforeEach(() => {
  route.query = {}
  replaced.length = 0
})

describe('what a list shows', () => {
  it('is in the address, so that a view can be sent', async () => {
    const { ask, set, sort, text } = useAsk(() => (text('state') ? `state:${text('state')}` : ''))
    set({ words: 'lamp' })
    sort('price', true)
    set({ state: 'held' })
    await nextTick()
    expect(route.query).toEqual({ words: 'lamp', sort: 'price', down: '1', state: 'held' })
    expect(ask.value).toEqual({ words: 'lamp', sort: 'price', down: true, filters: 'state:held' })
  })
  it('leaves nothing empty there, and takes no list of values for a word', async () => {
    const { ask, set } = useAsk(() => '')
    set({ words: 'lamp', row: '7' })
    set({ words: '', row: undefined })
    expect(replaced.at(-1)).toEqual({})
    route.query = { words: ['one', 'two'] }
    await nextTick()
    expect(ask.value.words).toBe('')
  })
  it('is in the view’s own order until somebody chooses one, and upwards when they turn it', async () => {
    const { ask, sort } = useAsk(
      () => '',
      () => ({ sort: 'came', down: true }),
    )
    expect([ask.value.sort, ask.value.down]).toEqual(['came', true])
    sort('came', false)
    await nextTick()
    expect([ask.value.sort, ask.value.down]).toEqual(['came', false])
  })
  it('goes out as a sheet of just these rows', () => {
    route.query = { words: 'a & b', sort: 'price', down: '1' }
    const { sheet } = useAsk(() => 'state:held')
    const [path, query] = sheet('orders', 'csv').split('?')
    expect(path).toBe('api/v1/sheets/lists/orders.csv')
    expect(Object.fromEntries(new URLSearchParams(query))).toEqual({ words: 'a & b', sort: 'price', down: 'true', filters: 'state:held' })
  })
  it('moves with the address when somebody goes back', async () => {
    const { ask } = useAsk(() => '')
    const seen = computed(() => ask.value.words)
    route.query = { words: 'lamp' }
    await nextTick()
    expect(seen.value).toBe('lamp')
    route.query = {}
    await nextTick()
    expect(seen.value).toBe('')
  })
})
