import { effectScope, nextTick, ref, type EffectScope } from 'vue'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { queries } from '@/api/cache'
import { usePages, type ListAsk } from './pages'

interface Asked {
  path: string
  ask: Record<string, unknown>
  answer: (rows: string[], total: number) => Promise<void>
  fail: (message: string) => Promise<void>
}
const asked: Asked[] = []
const settled = async () => {
  await vi.advanceTimersByTimeAsync(0)
  await nextTick()
}
vi.mock('@/api/client', () => ({
  idsOf: async () => ({ ids: [1, 2] }),
  page: (path: string, ask: Record<string, unknown>) =>
    new Promise((done, lost) => {
      asked.push({
        path,
        ask,
        answer: async (rows, total) => {
          done({ rows, total })
          await settled()
        },
        fail: async (message) => {
          lost(new Error(message))
          await settled()
        },
      })
    }),
}))
vi.mock('@/app/messages', () => ({ wordsOf: (error: Error) => error.message }))

let scope: EffectScope
const words = (text: string): ListAsk => ({ words: text, sort: '', down: false, filters: '' })
const ask = ref(words(''))
async function open() {
  scope = effectScope()
  const list = scope.run(() => usePages<string>('/api/v1/orders', ask))!
  await settled()
  return list
}

beforeEach(() => {
  vi.useFakeTimers()
  queries.clear()
  asked.length = 0
  ask.value = words('')
})
afterEach(() => {
  scope.stop()
  vi.useRealTimers()
})

describe('a long list', () => {
  it('shows the rows of the pages that are looked at', async () => {
    const list = await open()
    await asked[0]!.answer(['a', 'b'], 250)
    expect([list.at(0), list.at(1), list.at(120), list.total.value]).toEqual(['a', 'b', undefined, 250])
    list.see(90, 130)
    await settled()
    expect(asked.map((one) => one.ask['offset'])).toEqual([0, 100])
    await asked[1]!.answer(['z'], 250)
    expect(list.at(100)).toBe('z')
    expect(list.placeOf((row) => row === 'z')).toBe(100)
    list.see(100, 130)
    await settled()
    expect([list.at(0), list.find((row) => row === 'b'), list.find((row) => row === 'none')]).toEqual([undefined, 'b', undefined])
  })
  it('never shows the answer of an earlier question under a later one', async () => {
    const list = await open()
    await asked[0]!.answer(['all'], 1)
    ask.value = words('lamp')
    await vi.advanceTimersByTimeAsync(200)
    expect(list.state.old).toBe(true)
    ask.value = words('lamps')
    await vi.advanceTimersByTimeAsync(200)
    await asked[2]!.answer(['of lamps'], 1)
    await asked[1]!.answer(['of lamp'], 9)
    expect([list.at(0), list.total.value, list.state.old]).toEqual(['of lamps', 1, false])
  })
  it('is read again when it is said to be old, and shows what it had meanwhile', async () => {
    const list = await open()
    await asked[0]!.answer(['a'], 1)
    list.refresh()
    await settled()
    expect([asked.length, list.at(0), list.state.old]).toEqual([2, 'a', false])
    await asked[1]!.answer(['b'], 1)
    expect(list.at(0)).toBe('b')
  })
  it('says why it could not be read, and comes back when it is asked again', async () => {
    const list = await open()
    await asked[0]!.fail('Amber Lane does not answer')
    await vi.advanceTimersByTimeAsync(400)
    await asked[1]!.fail('Amber Lane does not answer')
    expect(list.state.error).toBe('Amber Lane does not answer')
    list.refresh()
    await settled()
    await asked[2]!.answer(['a'], 1)
    expect([list.state.error, list.at(0)]).toEqual(['', 'a'])
  })
  it('says that it is late, and takes all rows of a question by their numbers', async () => {
    const list = await open()
    expect(list.state.late).toBe(false)
    await vi.advanceTimersByTimeAsync(200)
    expect(list.state.late).toBe(true)
    expect(await list.ids(0, 1)).toEqual([1, 2])
  })
})
