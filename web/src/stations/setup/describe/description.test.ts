import { describe, expect, it } from 'vitest'
import { bodyOf, fieldOf, kept, pairsOf, pairsText, pruned } from './description'

describe('a description that is worked on', () => {
  it('writes a field in short where it is nothing but its place', () => {
    expect(kept({ at: 'price', codes: {} })).toBe('price')
    expect(kept({ at: 'state', codes: { paid: 'open' } })).toEqual({ at: 'state', codes: { paid: 'open' } })
    expect(kept({ at: '' })).toBeUndefined()
    expect(fieldOf('price')).toEqual({ at: 'price' })
  })
  it('keeps words and what they mean through a line of text', () => {
    const pairs = { paid: 'open', 'sent off': 'sent' }
    expect(pairsOf(pairsText(pairs))).toEqual(pairs)
    expect(pairsOf('paid, = x, a=b')).toEqual({ a: 'b' })
  })
  it('leaves out what is empty, but for its operations', () => {
    expect(pruned({ name: 'x', about: '', key: [], operations: {}, call: { path: '/a', query: {} } })).toEqual({
      name: 'x',
      operations: {},
      call: { path: '/a' },
    })
    expect(bodyOf({ xml: '<a/>' })).toBe('xml')
    expect(bodyOf(undefined)).toBe('')
  })
})
