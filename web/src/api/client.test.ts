import { beforeEach, describe, expect, it, vi } from 'vitest'
import { isKnown } from './madeOf'

const sent: { url: string; init: RequestInit; body: unknown }[] = []
let answers: (Response | Error)[] = []
vi.stubGlobal('document', { baseURI: 'https://desk.example/amber/' })
// A browser knows where a page stands; here a path alone is no address.
vi.stubGlobal(
  'Request',
  class extends Request {
    constructor(input: string | Request, init?: RequestInit) {
      super(typeof input === 'string' ? new URL(input, 'https://desk.example') : input, init)
    }
  },
)
vi.stubGlobal('fetch', async (input: Request | string, init: RequestInit = {}) => {
  sent.push({ url: typeof input === 'string' ? input : input.url, init, body: init.body })
  const next = answers.shift()
  if (!next) throw new Error('nothing more is answered')
  if (next instanceof Error) throw next
  return next
})
const json = (body: unknown, status = 200, head: Record<string, string> = {}) =>
  new Response(JSON.stringify(body), { status, headers: { 'Content-Type': 'application/json', ...head } })
const { ApiError, ROOT, api, page, signedOut, take, upload } = await import('./client')
const failed = async (does: Promise<unknown>) =>
  does.then(
    () => null,
    (error: InstanceType<typeof ApiError>) => [error.status, error.message] as const,
  )

beforeEach(() => {
  sent.length = 0
  answers = []
})

describe('a call', () => {
  it('goes under the path that the application stands under, and remembers what its answer was made of', async () => {
    expect(ROOT).toBe('/amber')
    answers = [json({ rows: [], total: 0 }, 200, { 'X-Made-Of': 'order:3' })]
    const got = await page('/api/v1/orders', { words: 'a b', down: false, offset: 0 })
    expect(sent[0]!.url).toBe('/amber/api/v1/orders?words=a+b&down=false&offset=0')
    expect(isKnown(got)).toBe(true)
  })
  it('says what was refused in the server’s words, with its fields and what it needs', async () => {
    answers = [json({ detail: 'look at the price', fields: { price: 'is no amount' }, needs: 'a code' }, 422)]
    const error = await take(api.GET('/api/v1/today')).catch((problem: unknown) => problem)
    expect(error).toBeInstanceOf(ApiError)
    expect(error).toMatchObject({ message: 'look at the price', status: 422, fields: { price: 'is no amount' }, needs: 'a code' })
  })
  it('tells of a server in front that cannot reach ours, and of a file that it does not let through', async () => {
    for (const [status, words] of [
      [502, 'does not reach Amber Lane'],
      [503, 'does not reach Amber Lane'],
      [413, 'larger than the server in front'],
      [500, 'The server answered 500'],
    ] as const) {
      answers = [new Response('<html>a page of another server</html>', { status })]
      expect((await failed(page('/api/v1/orders', {})))?.[1]).toContain(words)
    }
  })
  it('says in words that nobody answers, and keeps what was typed', async () => {
    answers = [new TypeError('Failed to fetch')]
    expect(await failed(page('/api/v1/orders', {}))).toEqual([0, 'Amber Lane does not answer; try again when it is back.'])
  })
  it('lets everybody know once who is signed in no more', async () => {
    let out = 0
    signedOut.addEventListener('out', () => out++)
    answers = [json({ detail: 'sign in first' }, 401)]
    expect(await failed(page('/api/v1/orders', {}))).toEqual([401, 'sign in first'])
    expect(out).toBe(1)
  })
})

describe('a file', () => {
  it('goes as a form with our own header and what stands beside it, and has long but not for ever', async () => {
    answers = [json({ message: 'taken' })]
    await upload('/api/v1/sheets/items/look', new File(['a,b'], 'goods.csv'), { how: '{}' })
    const { init, body } = sent[0]!
    expect([init.method, (init.headers as Record<string, string>)['X-Amber-Lane']]).toEqual(['POST', '1'])
    expect([...(body as FormData).keys()]).toEqual(['how', 'file'])
    expect(init.signal).toBeInstanceOf(AbortSignal)
  })
})
