import { ref } from 'vue'
import { ApiError } from '@/api/client'
import { act, wordsOf } from '@/app/messages'

/** A form on its way: what was wrong with it as a sentence, and with each of its fields; what was typed stays. */
export function useForm() {
  const error = ref('')
  const wrong = ref<Record<string, string>>({})
  const needs = ref('')
  const busy = ref(false)
  function clear() {
    error.value = needs.value = ''
    wrong.value = {}
  }
  /** Send it once; the answer, or nothing where it was refused. */
  async function send<T>(does: () => Promise<T>): Promise<T | undefined> {
    if (busy.value) return undefined
    clear()
    busy.value = true
    try {
      return await does()
    } catch (problem) {
      error.value = wordsOf(problem)
      if (problem instanceof ApiError) {
        wrong.value = problem.fields
        needs.value = problem.needs
      }
      return undefined
    } finally {
      busy.value = false
    }
  }
  /** The same for what is an act: what was done is said, and everything is looked at again. */
  async function sendAct(does: () => Promise<{ message: string }>, then: () => void = () => {}): Promise<void> {
    const done = await send(does)
    if (!done) return
    then()
    void act(() => Promise.resolve(done))
  }
  return { error, wrong, needs, busy, clear, send, sendAct }
}
