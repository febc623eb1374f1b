/** A description of a partner's interface as it is worked on: plain data, in which whatever is not said is left out. */
export interface FieldRead {
  at?: string
  value?: string
  codes?: Record<string, string>
  otherwise?: string
  default?: string
  rows?: string
  split?: string
  fields?: Record<string, FieldRead | string>
}
export interface Call {
  method?: string
  path?: string
  query?: Record<string, string>
  headers?: Record<string, string>
  json?: string
  form?: string
  xml?: string
  text?: string
  graphql?: string
  variables?: string
  bytes?: string
  drop_empty?: string
  given?: Record<string, Record<string, string>>
}
export interface Paging {
  by: string
  size?: string
  first?: string
  pages?: string
  total?: string
  next?: string
  more?: string
}
export interface Operation {
  call?: Call
  read?: string
  rows?: string
  fields?: Record<string, FieldRead | string>
  whole?: Record<string, FieldRead | string>
  paging?: Paging
  most?: string
  delimiter?: string
}
export interface SignIn {
  kind?: string
  name?: string
  value?: string
  call?: Call
  token?: string
  authorize_address?: string
  token_address?: string
  scope?: string
  hash?: string
  text?: string
  encoding?: string
  time?: string
  headers?: Record<string, string>
}
export interface Rule {
  status?: string[]
  codes?: string[]
  means: string
}
export interface Described {
  version?: string
  name?: string
  owner?: string
  about?: string
  address?: string
  key?: string[]
  sign_in?: SignIn
  money?: { unit?: string; mark?: string; currency?: string }
  time?: { kind?: string; pattern?: string; zone?: string }
  limits?: { calls?: string; seconds?: string; day?: string }
  failures?: { when?: string; read?: string; delimiter?: string; code?: string; words?: string; rules?: Rule[]; otherwise?: string }
  namespaces?: Record<string, string>
  cannot_find?: string[]
  operations: Record<string, Operation>
}

/** The kinds of bodies that a call can have, as a person calls them. */
export const BODIES = {
  '': 'no body',
  json: 'JSON',
  form: 'a form',
  xml: 'XML',
  graphql: 'GraphQL',
  text: 'a text',
  bytes: 'the file itself',
} as const
export type Body = keyof typeof BODIES

/** Which body a call has. */
export const bodyOf = (call: Call | undefined): Body =>
  (['json', 'form', 'xml', 'graphql', 'text', 'bytes'] as const).find((one) => call?.[one] !== undefined) ?? ''

/** A field in full, however it is written. */
export const fieldOf = (read: FieldRead | string | undefined): FieldRead => (typeof read === 'string' ? { at: read } : (read ?? {}))

/** A field as it is kept: in short where it is nothing but its place; nothing where nothing is said. */
export function kept(read: FieldRead): FieldRead | string | undefined {
  const said = Object.entries(read).filter(
    ([, one]) => one !== undefined && one !== '' && !(typeof one === 'object' && !Object.keys(one).length),
  )
  if (!said.length) return undefined
  return said.length === 1 && said[0]![0] === 'at' ? (said[0]![1] as string) : (Object.fromEntries(said) as FieldRead)
}

/** Words and what they mean, as one line: `paid = open, sent = sent`. */
export const pairsText = (pairs: Record<string, string> | undefined): string =>
  Object.entries(pairs ?? {})
    .map(([theirs, ours]) => `${theirs} = ${ours}`)
    .join(', ')

/** The line back as pairs; what has no sign of equality in it is passed over. */
export function pairsOf(text: string): Record<string, string> {
  const out: Record<string, string> = {}
  for (const part of text.split(/[,\n]/)) {
    const at = part.indexOf('=')
    if (at > 0 && part.slice(0, at).trim()) out[part.slice(0, at).trim()] = part.slice(at + 1).trim()
  }
  return out
}

/** The data without what is empty, so that a description says only what there is to say. */
export function pruned<T>(value: T): T {
  if (Array.isArray(value)) return value.map((one) => pruned(one)) as T
  if (value && typeof value === 'object') {
    const out: Record<string, unknown> = {}
    for (const [name, one] of Object.entries(value)) {
      const inner = pruned(one)
      const bare = inner === undefined || inner === '' || (typeof inner === 'object' && inner !== null && !Object.keys(inner).length)
      if (!bare || name === 'operations') out[name] = inner
    }
    return out as T
  }
  return value
}
