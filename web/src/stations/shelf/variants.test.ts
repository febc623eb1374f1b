import { describe, expect, it } from 'vitest'
import type { Schema } from '@/api/client'
import { differs, draftOf, effect, keyOf, valuesOf, type Draft } from './variants'

type Row = Schema<'CombinationOut'>
const row = (values: string[], more: Partial<Row> = {}): Row =>
  ({ values, part: false, item: null, by_hand: false, price: null, most: null, picture: null, ...more }) as Row
const drafts = (rows: Row[], more: Record<string, Partial<Draft>> = {}, fresh = false) =>
  new Map(rows.map((one) => [keyOf(one.values), { ...draftOf(one, fresh), ...more[keyOf(one.values)] }]))

describe('values of an option', () => {
  it('are each there once, as they were typed first, whatever stands between them', () => {
    expect(valuesOf(' Red, red;Sky  blue\nGREEN,,  green ')).toEqual(['Red', 'Sky blue', 'GREEN'])
    expect(valuesOf(' , ;\n')).toEqual([])
  })
})

describe('what keeping sizes and colours would do', () => {
  const rows = [
    row(['S', 'red'], { part: true, item: 1, by_hand: true, price: { amount: '12.00', currency: 'GBP' } }),
    row(['S', 'blue'], { part: true, item: 2 }),
    row(['M', 'red'], { item: 3 }),
    row(['M', 'blue']),
  ]
  it('is nothing where nothing was changed', () => {
    expect(effect(rows, drafts(rows))).toEqual({ made: 0, dropped: 0, changed: 0, lacking: 0 })
  })
  it('counts each combination once', () => {
    const change = { [keyOf(['S', 'red'])]: { price: '13.00' }, [keyOf(['S', 'blue'])]: { kept: false } }
    const more = { [keyOf(['M', 'red'])]: { kept: true }, [keyOf(['M', 'blue'])]: { kept: true } }
    expect(effect(rows, drafts(rows, { ...change, ...more }))).toEqual({ made: 1, dropped: 1, changed: 1, lacking: 1 })
  })
  it('offers what is found where nothing belongs together yet', () => {
    const fresh = rows.map((one) => ({ ...one, part: false }))
    expect(effect(fresh, drafts(fresh, {}, true))).toEqual({ made: 3, dropped: 0, changed: 0, lacking: 0 })
  })
  it('takes what is left out for the same, whatever stands in it', () => {
    const [one, other] = [draftOf(rows[2]!, false), { ...draftOf(rows[2]!, false), price: '9.00' }]
    expect(differs(one, other)).toBe(false)
    expect(differs({ ...one, kept: true }, { ...other, kept: true })).toBe(true)
  })
  it('is asked by the same key in large and small letters', () => {
    expect(keyOf(['S', 'Red'])).toBe(keyOf(['s', 'red']))
    expect(keyOf(['a', 'b c'])).not.toBe(keyOf(['a b', 'c']))
  })
})
