import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { act, message, settled, tell, tellDone, wordsOf } from './messages'

const { ApiError } = vi.hoisted(() => ({ ApiError: class extends Error {} }))
vi.mock('@/api/client', () => ({ ApiError }))

/** The last act that can be undone, as the server would say it. */
let last: { id: number; message: string } | null
let reached = true
const asked: unknown[] = []
const live = vi.hoisted(() => ({ pulse: { value: null as unknown } }))
vi.mock('./live', () => ({
  live,
  lookNow: async () => {
    if (!reached) return null
    live.pulse.value = { last }
    return live.pulse.value
  },
  askAgain: async (now: unknown) => void asked.push(now),
}))

beforeEach(() => {
  vi.useFakeTimers()
  message.splice(0)
  asked.length = 0
  reached = true
  last = { id: 4, message: 'Price fixed by hand' }
  live.pulse.value = { last }
})
afterEach(() => vi.useRealTimers())
const told = () => message.map((one) => [one.text, one.bad, one.undo])

describe('what was done', () => {
  it('is said with what Z undoes, where it is what was just done', async () => {
    last = { id: 5, message: 'Lane opened' }
    await tellDone('Lane opened', 4)
    last = { id: 6, message: 'Ada opened 3 lanes' }
    await tellDone('3 lanes opened', 5)
    expect(told()).toEqual([
      ['Lane opened', false, 'Z undoes this'],
      ['3 lanes opened', false, 'Z undoes: Ada opened 3 lanes'],
    ])
  })
  it('names no older act where nothing of it can be undone, or nobody can be asked', async () => {
    await tellDone('Mail sent', 4)
    last = null
    await tellDone('Copied', 4)
    reached = false
    await tellDone('Saved', 4)
    expect(told().map(([, , undo]) => undo)).toEqual(['', '', ''])
  })
  it('lets the page ask again for what it touched, and says whether it worked', async () => {
    expect(await act(async () => ({ message: 'Kept' }))).toBe(true)
    expect(asked).toEqual([{ last }])
    expect(await act(() => Promise.reject(new ApiError('somebody changed this')))).toBe(false)
    expect(told().at(-1)).toEqual(['somebody changed this', true, ''])
    expect(asked).toHaveLength(1)
  })
  it('is waited for by a key that would undo it, but not without end', async () => {
    let answer: (done: { message: string }) => void = () => undefined
    void act(() => new Promise((done) => (answer = done)))
    let ready: boolean | null = null
    void settled().then((done) => (ready = done))
    await vi.advanceTimersByTimeAsync(100)
    expect(ready).toBe(null)
    answer({ message: 'Kept' })
    await vi.advanceTimersByTimeAsync(1)
    expect(ready).toBe(true)
    void act(() => new Promise(() => undefined))
    void settled().then((done) => (ready = done))
    await vi.advanceTimersByTimeAsync(7_000)
    expect(ready).toBe(false)
  })
})

describe('a line at the bottom', () => {
  it('stays longer where something went wrong, and no more than three stand at once', async () => {
    for (const n of [1, 2, 3]) tell(`done ${n}`)
    tell('it was refused', true)
    expect(told().map(([text]) => text)).toEqual(['done 2', 'done 3', 'it was refused'])
    await vi.advanceTimersByTimeAsync(5_100)
    expect(told().map(([text]) => text)).toEqual(['it was refused'])
    await vi.advanceTimersByTimeAsync(4_000)
    expect(told()).toEqual([])
  })
  it('says what the server said, and of a fault of the page only that', () => {
    expect(wordsOf(new ApiError('look at the price'))).toBe('look at the price')
    expect(wordsOf(new TypeError('x is undefined'))).toBe('Something broke on this page; load it again.')
  })
})
