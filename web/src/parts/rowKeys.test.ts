import { describe, expect, it, vi } from 'vitest'
import { nextTick, ref } from 'vue'
import type { Key } from '@/app/keys'
import { useRowKeys } from './rowKeys'

const given: Key[] = []
vi.mock('@/app/keys', () => ({ useKeys: (_: string, keys: Key[]) => given.splice(0, given.length, ...keys) }))
const press = (key: string) => given.find((one) => one.key === key)!.run({} as KeyboardEvent)

describe('a list that is walked by keys', () => {
  it('stays within its rows, by letters and by arrows', () => {
    const many = ref(3)
    const active = useRowKeys('Cases', 'case', () => many.value)
    press('k')
    expect(active.value).toBe(0)
    for (const key of ['j', 'arrowdown', 'j', 'j']) press(key)
    expect(active.value).toBe(2)
    press('arrowup')
    expect(active.value).toBe(1)
  })
  it('chooses the last row where the chosen one went, and keeps its place while nothing is there', async () => {
    const many = ref(3)
    const active = useRowKeys('Cases', 'case', () => many.value)
    press('j')
    press('j')
    many.value = 0
    await nextTick()
    expect(active.value).toBe(2)
    many.value = 2
    await nextTick()
    expect(active.value).toBe(1)
    many.value = 9
    await nextTick()
    expect(active.value).toBe(1)
  })
  it('has keys of its own beside them', () => {
    const done: string[] = []
    useRowKeys('Loads', 'load', () => 1, [{ key: 'n', message: 'put a load together', run: () => done.push('new') }])
    press('n')
    expect([done, given.map((one) => one.key)]).toEqual([['new'], ['j', 'arrowdown', 'k', 'arrowup', 'n']])
  })
})
