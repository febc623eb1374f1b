import { describe, expect, it, vi } from 'vitest'
import type { Schema } from '@/api/client'
import { limited, may, take } from '@/app/may'
import { nobody, scopeOf, whoOf } from './people'

vi.mock('@/api/client', () => ({ api: {}, take: () => undefined }))
const of = {
  stores: [{ id: 1, name: 'Dusk & Dial' }],
  suppliers: [
    { id: 2, name: 'Northlight Trade' },
    { id: 3, name: 'Quayside' },
  ],
} as unknown as Schema<'RolesOut'>
const person = (role: string, scope: object) => ({ role, scope }) as unknown as Schema<'PersonOut'>

describe('whom a person works for', () => {
  it('stands with names, and with those of categories as they are', () => {
    const one = person('mapper', { stores: [1], suppliers: [3, 2], categories: ['Optics'] })
    expect(scopeOf(one, of)).toBe('Dusk & Dial, Quayside, Northlight Trade, Optics')
    expect(whoOf(one)).toEqual({ role: 'mapper', stores: [1], suppliers: [3, 2], categories: ['Optics'] })
  })
  it('is nothing where they are not limited, and leaves out what is there no more', () => {
    expect(scopeOf(person('manager', {}), of)).toBe('')
    expect(scopeOf(person('agent', { suppliers: [2, 99] }), of)).toBe('Northlight Trade')
    expect(scopeOf(person('agent', { suppliers: [2] }), undefined)).toBe('')
    expect(whoOf(person('manager', {}))).toEqual(nobody('manager'))
  })
})

describe('what somebody may do', () => {
  it('is what the server said at sign-in, all of it that is asked for', () => {
    take({ permissions: ['look', 'map'], limited: true } as unknown as Schema<'Here'>)
    expect([may(), may('look' as never), may('look' as never, 'map' as never), may('look' as never, 'buy' as never)]).toEqual([
      true,
      true,
      true,
      false,
    ])
    expect(limited.value).toBe(true)
    take({ permissions: [], limited: false } as unknown as Schema<'Here'>)
    expect([may('look' as never), limited.value]).toEqual([false, false])
  })
})
