/** The interface's document as a person reads it: calls by group, with an example of what is sent and answered. */

export interface Shape {
  $ref?: string
  type?: string
  format?: string
  enum?: unknown[]
  const?: unknown
  default?: unknown
  minimum?: number
  exclusiveMinimum?: number
  anyOf?: Shape[]
  oneOf?: Shape[]
  allOf?: Shape[]
  items?: Shape
  properties?: Record<string, Shape>
  additionalProperties?: Shape | boolean
  description?: string
}
interface Content {
  content?: Record<string, { schema?: Shape }>
  description?: string
}
export interface Param {
  name: string
  in: string
  required?: boolean
  schema?: Shape
}
interface Operation {
  tags?: string[]
  description?: string
  summary?: string
  parameters?: Param[]
  requestBody?: Content
  responses: Record<string, Content>
  'x-needs'?: string[]
}
export interface Document {
  paths: Record<string, Record<string, Operation>>
  components: { schemas: Record<string, Shape> }
}
export interface Call {
  key: string
  group: string
  method: string
  path: string
  about: string
  needs: string[]
  params: Param[]
  body?: Shape
  answer?: Shape
  /** How it may be refused: status and its name. */
  refusals: string[]
}

const JSON_KIND = 'application/json'

/** What a program of one's own may call: of every call that needs a permission, the first line of what it does. */
export function callsOf(of: Document): Call[] {
  const out: Call[] = []
  for (const [path, methods] of Object.entries(of.paths))
    for (const [method, one] of Object.entries(methods)) {
      if (!one['x-needs']) continue
      const good = Object.entries(one.responses).find(([status]) => status.startsWith('2'))?.[1]
      out.push({
        key: `${method} ${path}`,
        group: one.tags?.[0] ?? '',
        method: method.toUpperCase(),
        path,
        about: one.description ?? one.summary ?? '',
        needs: one['x-needs'],
        params: one.parameters ?? [],
        body: one.requestBody?.content?.[JSON_KIND]?.schema,
        answer: good?.content?.[JSON_KIND]?.schema,
        refusals: Object.entries(one.responses)
          .filter(([status]) => status >= '400')
          .map(([status, said]) => `${status} ${said.description ?? ''}`.trim()),
      })
    }
  return out.sort((one, other) => one.group.localeCompare(other.group) || one.path.localeCompare(other.path))
}

/** A value as the interface takes or gives it; the house's own money where money is meant. */
export function example(of: Document, shape: Shape | undefined, money: string, name = '', depth = 0): unknown {
  if (!shape || depth > 6) return null
  if (shape.$ref) return example(of, of.components.schemas[shape.$ref.split('/').pop()!], money, name, depth + 1)
  if (shape.default !== undefined && shape.default !== null) return shape.default
  if (shape.const !== undefined) return shape.const
  if (shape.enum) return shape.enum[0]
  const one = [...(shape.anyOf ?? []), ...(shape.oneOf ?? []), ...(shape.allOf ?? [])].find((part) => part.type !== 'null')
  if (one) return example(of, one, money, name, depth + 1)
  if (shape.type === 'array') return [example(of, shape.items, money, name, depth + 1)]
  if (shape.type === 'object' || shape.properties) {
    const fields = Object.entries(shape.properties ?? {}).map(([key, part]) => [key, example(of, part, money, key, depth + 1)])
    if (!fields.length && typeof shape.additionalProperties === 'object')
      return { name: example(of, shape.additionalProperties, money, '', depth + 1) }
    return Object.fromEntries(fields)
  }
  if (shape.type === 'integer' || shape.type === 'number') return Math.max(shape.minimum ?? 1, (shape.exclusiveMinimum ?? 0) + 1)
  if (shape.type === 'boolean') return true
  if (shape.format === 'date-time') return '2026-03-12T09:00:00Z'
  if (shape.format === 'date') return '2026-03-12'
  if (name === 'currency') return money
  if (name === 'amount') return '12.50'
  return shape.type === 'string' ? 'text' : null
}

/** The path of a call with what was typed for its parts; what is still missing stands in braces. */
export function addressOf(call: Call, typed: Record<string, string>): string {
  const path = call.path.replace(/\{(\w+)\}/g, (whole, name: string) => (typed[name] ? encodeURIComponent(typed[name]) : whole))
  const asked = call.params.filter((one) => one.in === 'query' && typed[one.name])
  const query = asked.map((one) => `${one.name}=${encodeURIComponent(typed[one.name]!)}`).join('&')
  return `${path}${query ? `?${query}` : ''}`
}

/** The call as a line of a shell. */
export function shellLine(call: Call, origin: string, typed: Record<string, string>, body: unknown): string {
  const parts = [`curl${call.method === 'GET' ? '' : ` -X ${call.method}`} '${origin}${addressOf(call, typed)}'`]
  parts.push(`-H 'Authorization: Bearer alk_…'`)
  if (call.body) parts.push(`-H 'Content-Type: ${JSON_KIND}'`, `-d '${JSON.stringify(body).replace(/'/g, `'\\''`)}'`)
  return parts.join(' \\\n  ')
}
