import { reactive } from 'vue'
import { ApiError } from '@/api/client'
import { queries } from '@/main'
import { lookNow } from './live'

interface Told {
  id: number
  text: string
  bad: boolean
}

export const told = reactive<Told[]>([])
let next = 1

/** Say in a line at the bottom what was done or what went wrong; it is read out too. */
export function tell(text: string, bad = false): void {
  const one = { id: next++, text, bad }
  told.push(one)
  if (told.length > 3) told.shift()
  setTimeout(
    () => {
      const at = told.findIndex((other) => other.id === one.id)
      if (at >= 0) told.splice(at, 1)
    },
    bad ? 9000 : 5000,
  )
}

export const wordsOf = (error: unknown): string =>
  error instanceof ApiError ? error.message : 'Something broke on this page; load it again.'

/** Say what was done, once the bar at the bottom names it, so that Z never undoes an older act. */
export async function tellDone(text: string): Promise<void> {
  await lookNow()
  tell(text)
}

/** Do one thing for a person: say what came of it, and look at everything again. Answers whether it worked. */
export async function act(run: () => Promise<{ told: string }>): Promise<boolean> {
  try {
    await tellDone((await run()).told)
    await queries.invalidateQueries()
    return true
  } catch (error) {
    tell(wordsOf(error), true)
    return false
  }
}
