import { describe, expect, it } from 'vitest'
import { addressOf, callsOf, example, shellLine, type Document } from './calls'

const of: Document = {
  paths: {
    '/api/v1/things/{number}': {
      post: {
        tags: ['things'],
        description: 'Change it.',
        'x-needs': ['order'],
        parameters: [
          { name: 'number', in: 'path', required: true },
          { name: 'show', in: 'query' },
        ],
        requestBody: { content: { 'application/json': { schema: { $ref: '#/components/schemas/Thing' } } } },
        responses: { '200': { content: {} }, '409': { description: 'Conflict' } },
      },
    },
    '/api/health': { get: { responses: { '200': {} } } },
  },
  components: {
    schemas: {
      Money: { type: 'object', properties: { amount: { type: 'string' }, currency: { type: 'string' } } },
      Thing: {
        type: 'object',
        properties: {
          price: { anyOf: [{ type: 'null' }, { $ref: '#/components/schemas/Money' }] },
          lines: { type: 'array', items: { type: 'integer', exclusiveMinimum: 0 } },
          state: { enum: ['open', 'done'] },
          self: { $ref: '#/components/schemas/Thing' },
          words: { type: 'string', default: "it's" },
        },
      },
    },
  },
}

describe('the interface as a person reads it', () => {
  const [call] = callsOf(of)
  it('shows what a program may call, with what it needs', () => {
    expect(callsOf(of)).toHaveLength(1)
    expect(call).toMatchObject({ method: 'POST', needs: ['order'], refusals: ['409 Conflict'] })
  })
  it('makes an example in the house’s money that ends, also where a thing holds itself', () => {
    const made = example(of, call!.body, 'OURS') as Record<string, unknown>
    expect(made).toMatchObject({ price: { amount: '12.50', currency: 'OURS' }, lines: [1], state: 'open', words: "it's" })
    expect(JSON.stringify(made).length).toBeLessThan(2000)
  })
  it('writes the line for a shell, whatever is typed', () => {
    expect(addressOf(call!, { number: '7/8', show: 'a&b' })).toBe('/api/v1/things/7%2F8?show=a%26b')
    expect(addressOf(call!, {})).toBe('/api/v1/things/{number}')
    expect(shellLine(call!, 'http://here', { number: '7' }, { words: "it's" })).toContain(`-d '{"words":"it'\\''s"}'`)
  })
})
