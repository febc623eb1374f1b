/** The description that is worked on: what was typed is kept at once by itself, and can be left and come back to. */
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { useDebounceFn } from '@vueuse/core'
import { computed, inject, provide, ref, watch, type InjectionKey } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { tell, wordsOf } from '@/app/messages'
import { pruned, type Described } from './description'
import { oneDescription, shapes } from './queries'

/** What counts where a description says nothing. */
const USUAL = {
  sign_in: { kind: 'none', hash: 'sha256', encoding: 'hex' },
  money: { unit: 'major', mark: '.' },
  time: { kind: 'iso' },
  limits: {},
  failures: { read: 'json', delimiter: ',' },
}
function makeDraft(number: number) {
  const client = useQueryClient()
  const asked = useQuery(oneDescription(number))
  const { data: owners } = useQuery(shapes())
  const whole = computed(() => asked.data.value)
  const data = ref<Described>({ operations: {}, ...USUAL })
  const state = ref<'kept' | 'typing' | 'keeping' | 'failed'>('kept')
  const version = ref(0)
  function show(now: Schema<'WholeOut'> | undefined) {
    // What is typed and not kept yet belongs to the version that it was begun on: another's change is never written over.
    // Nor is what was just kept by what was asked before that.
    if (!now || state.value !== 'kept' || now.version < version.value) return
    version.value = now.version
    data.value = (JSON.parse(JSON.stringify(now.data)) as Described | null) ?? { operations: {} }
    data.value.operations ??= {}
    // What is not said yet stands as it counts then, so that a form shows it.
    for (const [part, usual] of Object.entries(USUAL) as ['money', Described['money']][])
      data.value[part] = { ...usual, ...data.value[part] }
  }
  watch(whole, show, { immediate: true })
  let running: Promise<boolean> = Promise.resolve(true)
  async function keepNow(text?: string): Promise<boolean> {
    state.value = 'keeping'
    const body = { version: version.value, text: text ?? null, data: text === undefined ? pruned(data.value) : null }
    try {
      const now = await take(
        api.PUT('/api/v1/setup/descriptions/{number}', {
          params: { path: { number } },
          body: { ...body, data: body.data as Record<string, unknown> | null },
        }),
      )
      version.value = now.version
      if (state.value === 'keeping') state.value = 'kept'
      void client.invalidateQueries({ queryKey: ['description', number] })
      void client.invalidateQueries({ queryKey: ['descriptions'] })
      return true
    } catch (problem) {
      state.value = 'failed'
      tell(wordsOf(problem), true)
      return false
    }
  }
  /** Keep the text of the whole file, or what is typed in the steps, after what is being kept. False where it could not be. */
  const keep = (text?: string) => (running = running.then(() => keepNow(text)))
  /** Keep what waits to be kept. False where it could not be: nothing is to be asked by it then. */
  const kept = () => (state.value === 'typing' || state.value === 'failed' ? keep() : running)
  const soon = useDebounceFn(() => kept(), 700)
  function change() {
    state.value = 'typing'
    void soon()
  }
  /** Leave what could not be kept, and go on with what is there. */
  async function reload() {
    const now = await asked.refetch()
    state.value = 'kept'
    version.value = 0
    show(now.data)
  }
  const owner = computed(() => owners.value?.find((one) => one.owner === whole.value?.owner))
  const specs = computed(() => owner.value?.operations ?? [])
  const faultsOf = (place: string) => (whole.value?.found ?? []).filter((one) => one.place === place || one.place.startsWith(`${place}.`))
  return { number, asked, whole, data, state, keep, kept, reload, change, owner, specs, faultsOf }
}
export type Draft = ReturnType<typeof makeDraft>
export type OperationShape = Schema<'OperationOut'>
export type FieldShape = Schema<'OurField'>
const KEY: InjectionKey<Draft> = Symbol('draft')

export function startDraft(number: number): Draft {
  const draft = makeDraft(number)
  provide(KEY, draft)
  return draft
}
export const useDraft = (): Draft => inject(KEY)!
