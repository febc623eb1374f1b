import { describe, expect, it } from 'vitest'
import { carryMadeOf, isKnown, isOld, noteMadeOf } from './madeOf'

const head = (said?: string) => new Headers(said === undefined ? {} : { 'X-Made-Of': said })
const answered = (said?: string, body: object = { rows: [] }) => {
  noteMadeOf(body, head(said))
  return body
}

describe('what an answer was made of', () => {
  it('is old when one of its tables was changed since, and by nothing else', () => {
    const answer = answered('order:4 supplier:2')
    expect(isOld(answer, { order: 4, supplier: 2, parcel: 99 })).toBe(false)
    expect(isOld(answer, { order: 5, supplier: 2 })).toBe(true)
    expect(isOld(answer, { order: 4, supplier: 3 })).toBe(true)
  })
  it('counts a table that was never changed, and is not old by what came before it', () => {
    expect(isOld(answered('claim:0'), {})).toBe(false)
    expect(isOld(answered('claim:0'), { claim: 1 })).toBe(true)
    // A pulse that left before the answer did knows less than that answer.
    expect(isOld(answered('order:9'), { order: 8 })).toBe(false)
  })
  it('is unknown where an answer says nothing, is none, or is a bare word', () => {
    for (const one of [answered(), undefined, null, 'text', 3]) {
      expect(isKnown(one)).toBe(false)
      expect(isOld(one, { order: 9 })).toBe(false)
    }
    expect(isKnown(answered('order:1', []))).toBe(true)
  })
  it('goes over to what is kept in its place, and a silent answer takes it away again', () => {
    const before = answered('order:1')
    const now = answered('order:2', { rows: [1] })
    carryMadeOf(now, before)
    expect(isOld(before, { order: 2 })).toBe(false)
    carryMadeOf(answered(), before)
    expect(isKnown(before)).toBe(false)
  })
})
