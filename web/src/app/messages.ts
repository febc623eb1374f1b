import { reactive } from 'vue'
import { ApiError } from '@/api/client'
import { askAgain, live, lookNow, type Pulse } from './live'

interface Told {
  id: number
  text: string
  bad: boolean
  /** What Z would undo now, where this was just done. */
  undo: string
}

export const message = reactive<Told[]>([])
let next = 1

/** Say in a line at the bottom what was done or what went wrong; it is read out too. */
export function tell(text: string, bad = false, undo = ''): void {
  const one = { id: next++, text, bad, undo }
  message.push(one)
  if (message.length > 3) message.shift()
  setTimeout(
    () => {
      const at = message.findIndex((other) => other.id === one.id)
      if (at >= 0) message.splice(at, 1)
    },
    bad ? 9000 : 5000,
  )
}

export const wordsOf = (error: unknown): string =>
  error instanceof ApiError ? error.message : 'Something broke on this page; load it again.'

/** Say what was done, once the bar at the bottom names it, so that Z never undoes an older act. */
export async function tellDone(text: string, before = live.pulse.value?.last?.id): Promise<Pulse | null> {
  const now = await lookNow()
  // What was done may be no act of ours that can be undone: then Z still means the one before, and is not named here.
  const mine = now?.last && now.last.id !== before ? now.last.message : ''
  tell(text, false, mine && (mine === text ? 'Z undoes this' : `Z undoes: ${mine}`))
  return now
}

const LONGEST_MS = 6000
let doing: Promise<unknown> = Promise.resolve()
/** When all that was begun on this page is done and named, since a key that undoes means that; false where it takes too long. */
export const settled = (): Promise<boolean> =>
  Promise.race([doing.then(() => true), new Promise<boolean>((late) => setTimeout(() => late(false), LONGEST_MS))])

/** Do one thing for a person: say what came of it, and look again at what it touched. Answers whether it worked. */
export async function act(run: () => Promise<{ message: string }>): Promise<boolean> {
  const named = carryOut(run)
  doing = Promise.all([doing, named])
  const now = await named
  if (now === 'failed') return false
  await askAgain(now)
  return true
}

async function carryOut(run: () => Promise<{ message: string }>): Promise<Pulse | null | 'failed'> {
  const before = live.pulse.value?.last?.id
  try {
    return await tellDone((await run()).message, before)
  } catch (error) {
    tell(wordsOf(error), true)
    return 'failed'
  }
}
