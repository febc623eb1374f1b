import { effectScope, nextTick, ref, type EffectScope } from 'vue'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { startDraft, type Draft } from './draft'

interface Kept {
  version: number
  text: string | null
  data: { name?: string; operations?: object } | null
}
/** The server's description, and what it was asked to keep. */
const there = { version: 3, data: { name: 'Fern', operations: {} } as Record<string, unknown> }
const calls: Kept[] = []
let fails: Error[] = []
const answer = ref<unknown>()
const say = (more: object = {}) =>
  (answer.value = { version: there.version, data: { ...there.data }, owner: 'supplier', found: [], ...more })
const told: string[] = []

vi.mock('vue', async (original) => ({ ...(await original<typeof import('vue')>()), provide: () => undefined }))
vi.mock('@tanstack/vue-query', () => ({
  useQueryClient: () => ({ invalidateQueries: async () => undefined }),
  useQuery: (asked: { queryKey: string[] }) =>
    asked.queryKey[0] === 'one'
      ? { data: answer, refetch: async () => ({ data: say() }) }
      : { data: ref([{ owner: 'supplier', operations: ['items'] }]) },
}))
vi.mock('./queries', () => ({ oneDescription: () => ({ queryKey: ['one'] }), shapes: () => ({ queryKey: ['shapes'] }) }))
vi.mock('@/app/messages', () => ({ tell: (text: string) => void told.push(text), wordsOf: (error: Error) => error.message }))
vi.mock('@/api/client', () => ({
  api: { PUT: (_: string, { body }: { body: Kept }) => Promise.resolve({ data: body }) },
  take: async (call: Promise<{ data: Kept }>) => {
    const { data: body } = await call
    calls.push(JSON.parse(JSON.stringify(body)))
    const failed = fails.shift()
    if (failed) throw failed
    if (body.version !== there.version) throw new Error('somebody changed this description')
    there.version++
    if (body.data) there.data = body.data
    return { version: there.version }
  },
}))

let scope: EffectScope
const open = (): Draft => {
  scope = effectScope()
  return scope.run(() => startDraft(1))!
}
const rest = async (ms: number) => {
  await vi.advanceTimersByTimeAsync(ms)
  await nextTick()
}
const type = (draft: Draft, name: string) => {
  draft.data.value.name = name
  draft.change()
}

beforeEach(() => {
  vi.useFakeTimers()
  Object.assign(there, { version: 3, data: { name: 'Fern', operations: {} } })
  calls.length = told.length = 0
  fails = []
  say()
})
afterEach(() => {
  scope.stop()
  vi.useRealTimers()
})

describe('a description that is worked on', () => {
  it('is kept by itself once typing rests, and says only what there is to say', async () => {
    const draft = open()
    type(draft, 'F')
    await rest(300)
    type(draft, 'Fernmoor')
    expect(draft.state.value).toBe('typing')
    await rest(800)
    expect(draft.state.value).toBe('kept')
    expect(calls.map((one) => [one.version, one.data?.name])).toEqual([[3, 'Fernmoor']])
    expect(there.version).toBe(4)
    type(draft, 'Fernmoor Trade')
    expect(await draft.kept()).toBe(true)
    expect(calls.at(-1)!.version).toBe(4)
  })
  it('shows each part as it counts where nothing is said of it', () => {
    const { data } = open()
    expect([data.value.money?.unit, data.value.sign_in?.kind, data.value.failures?.read]).toEqual(['major', 'none', 'json'])
  })
  it('is not shown anew while something is typed, nor by an answer older than what was kept', async () => {
    const draft = open()
    type(draft, 'Ours')
    say({ version: 9, data: { name: 'Theirs', operations: {} } })
    await nextTick()
    expect(draft.data.value.name).toBe('Ours')
    await draft.kept()
    say({ version: 2, data: { name: 'Long ago', operations: {} } })
    await nextTick()
    expect(draft.data.value.name).toBe('Ours')
  })
  it('stays typed where it could not be kept, and is kept with the next try', async () => {
    const draft = open()
    fails = [new Error('Amber Lane does not answer')]
    type(draft, 'Ours')
    expect(await draft.kept()).toBe(false)
    expect([draft.state.value, draft.data.value.name, told]).toEqual(['failed', 'Ours', ['Amber Lane does not answer']])
    expect(await draft.kept()).toBe(true)
    expect(there.data['name']).toBe('Ours')
  })
  it('is never written over another person’s, and goes on with theirs when one says so', async () => {
    const draft = open()
    Object.assign(there, { version: 8, data: { name: 'Theirs', operations: {} } })
    type(draft, 'Ours')
    expect(await draft.kept()).toBe(false)
    expect(there.data['name']).toBe('Theirs')
    await draft.reload()
    expect([draft.state.value, draft.data.value.name]).toEqual(['kept', 'Theirs'])
  })
  it('keeps a whole file after what is being kept, and not beside it', async () => {
    const draft = open()
    type(draft, 'Ours')
    const first = draft.kept()
    const second = draft.keep('name: By file')
    expect(await Promise.all([first, second])).toEqual([true, true])
    expect(calls.map((one) => [one.version, one.text])).toEqual([
      [3, null],
      [4, 'name: By file'],
    ])
  })
})
