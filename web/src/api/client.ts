import createClient, { type Middleware } from 'openapi-fetch'
import { LISTS, nameOf } from './lists'
import { noteMadeOf } from './madeOf'
import type { components, paths } from './schema'

export type Schema<K extends keyof components['schemas']> = components['schemas'][K]
export type Money = Schema<'Money'>

/** A failure as a sentence for a person; fields name what was wrong with each, needs what is asked for as well. */
export class ApiError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly fields: Record<string, string> = {},
    readonly needs = '',
  ) {
    super(message)
  }
}

/** Under which path the application stands, without the slash at its end. */
export const ROOT = new URL(document.baseURI).pathname.replace(/\/$/, '')

export const signedOut = new EventTarget()

/** What a status means that came without words of ours: from a server that stands in front, or from one that broke. */
const refused = (status: number): string =>
  status === 413
    ? 'This file is larger than the server in front of Amber Lane lets through. Split it, or let larger ones through there (docs/going-live.md says how).'
    : [502, 503, 504].includes(status)
      ? 'The server in front does not reach Amber Lane just now; try again in a moment.'
      : `The server answered ${status}; try again`

const guard: Middleware = {
  onRequest({ request }) {
    request.headers.set('X-Amber-Lane', '1')
    // Nothing is waited for without end.
    return new Request(request, { signal: AbortSignal.any([request.signal, AbortSignal.timeout(60_000)]) })
  },
  async onResponse({ response }) {
    if (response.ok) return response
    const body = await response.json().catch(() => ({}))
    if (response.status === 401) signedOut.dispatchEvent(new Event('out'))
    throw new ApiError(body.detail ?? refused(response.status), response.status, body.fields, body.needs)
  },
  onError() {
    return new ApiError('Amber Lane does not answer. What you typed is kept; try again when it is back.', 0)
  },
}

export const api = createClient<paths>({ baseUrl: ROOT, credentials: 'same-origin' })
api.use(guard)

/** The data of a call, which the guard has made sure is there. */
export async function take<T>(call: Promise<{ data?: T; response: Response }>): Promise<T> {
  const { data, response } = await call
  noteMadeOf(data, response.headers)
  return data as T
}

/** One page of any list, by its path: the lists share their questions and their shape. */
export async function page<R>(path: string, ask: Record<string, string | number | boolean>): Promise<{ rows: R[]; total: number }> {
  const query = new URLSearchParams(Object.entries(ask).map(([k, v]) => [k, String(v)]))
  return answer(`${path}?${query}`, 60, {})
}

/** The numbers of rows of a list, as filtered and sorted, in their order. */
export async function idsOf(path: string, ask: Record<string, string | number | boolean>): Promise<{ ids: number[]; total: number }> {
  const query = new URLSearchParams(Object.entries(ask).map(([k, v]) => [k, String(v)]))
  return answer(`${path === LISTS.goods ? path : `/api/v1/sheets/lists/${nameOf(path)}`}/ids?${query}`, 60, {})
}

/** Send a file by a form; what the router answers. A large sheet may take its time, but not without end. */
export async function upload<R>(path: string, file: File, beside: Record<string, string> = {}): Promise<R> {
  const body = new FormData()
  for (const [name, value] of Object.entries(beside)) body.append(name, value)
  body.append('file', file)
  return answer(path, 300, { method: 'POST', body, headers: { 'X-Amber-Lane': '1' } })
}

async function answer<R>(path: string, seconds: number, ask: RequestInit): Promise<R> {
  let response: Response
  try {
    response = await fetch(`${ROOT}${path}`, { ...ask, credentials: 'same-origin', signal: AbortSignal.timeout(seconds * 1000) })
  } catch {
    throw new ApiError('Amber Lane does not answer; try again when it is back.', 0)
  }
  const body = await response.json().catch(() => ({}))
  if (response.status === 401) signedOut.dispatchEvent(new Event('out'))
  if (!response.ok) throw new ApiError(body.detail ?? refused(response.status), response.status)
  noteMadeOf(body, response.headers)
  return body
}
