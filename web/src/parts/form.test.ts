import { describe, expect, it, vi } from 'vitest'
import { useForm } from './form'
import { pieces } from './marks'

const { ApiError } = vi.hoisted(() => ({
  ApiError: class extends Error {
    constructor(
      message: string,
      readonly status: number,
      readonly fields: Record<string, string> = {},
      readonly needs = '',
    ) {
      super(message)
    }
  },
}))
const acts: string[] = []
vi.mock('@/api/client', () => ({ ApiError }))
vi.mock('@/app/messages', () => ({
  wordsOf: (problem: Error) => problem.message,
  act: async (run: () => Promise<{ message: string }>) => acts.push((await run()).message),
}))

describe('a form', () => {
  it('says what is wrong with it and with each field, and forgets that when it is sent again', async () => {
    const form = useForm()
    await form.send(() => Promise.reject(new ApiError('look at the price', 422, { price: 'is no amount' }, 'a code')))
    expect([form.error.value, form.wrong.value, form.needs.value]).toEqual(['look at the price', { price: 'is no amount' }, 'a code'])
    expect(await form.send(() => Promise.resolve(7))).toBe(7)
    expect([form.error.value, form.wrong.value, form.needs.value]).toEqual(['', {}, ''])
  })
  it('is sent once, however often it is asked to', async () => {
    const form = useForm()
    let sent = 0
    let answer: (n: number) => void = () => undefined
    const first = form.send(() => {
      sent++
      return new Promise<number>((done) => (answer = done))
    })
    expect([form.busy.value, await form.send(() => Promise.resolve(sent++))]).toEqual([true, undefined])
    answer(5)
    expect([await first, sent, form.busy.value]).toEqual([5, 1, false])
  })
  it('goes on to what follows only where it was taken', async () => {
    const form = useForm()
    const followed: string[] = []
    await form.sendAct(
      () => Promise.reject(new ApiError('somebody changed this', 409)),
      () => followed.push('refused'),
    )
    await form.sendAct(
      () => Promise.resolve({ message: 'Kept' }),
      () => followed.push('taken'),
    )
    expect([followed, acts]).toEqual([['taken'], ['Kept']])
  })
})

describe('a marked title', () => {
  it('is cut at its marks and loses no letter, whatever letters it has', () => {
    const title = 'Läufer 👩‍🚀 lamp'
    const letters = [...title]
    for (let start = 0; start < letters.length; start++)
      for (let end = start; end <= letters.length; end++) {
        const found = pieces(title, [
          { start, end, kind: 'same' },
          { start: Math.max(0, end - 1), end: letters.length, kind: 'after' },
        ])
        expect(found.map((one) => one.text).join('')).toBe(title)
      }
    expect(pieces(title, [{ start: 0, end: 6, kind: 'same' }])[0]).toEqual({ text: 'Läufer', kind: 'same' })
  })
})
