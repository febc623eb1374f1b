/** Of which tables each answer was made, and how often each had been changed then: so that a page asks again for just what is old. */
export type Revisions = Record<string, number>

const kept = new WeakMap<object, Revisions>()
const isObject = (one: unknown): one is object => typeof one === 'object' && one !== null

/** Remember what an answer says of itself in its head; one that says nothing may be changed by anything. */
export function noteMadeOf(answer: unknown, head: Headers): void {
  const said = head.get('X-Made-Of')
  if (!said || !isObject(answer)) return
  kept.set(
    answer,
    Object.fromEntries(
      said
        .split(' ')
        .map((one) => one.split(':'))
        .map(([name, n]) => [name!, Number(n)]),
    ),
  )
}

/** Whether an answer says of what it was made. */
export const isKnown = (answer: unknown): boolean => isObject(answer) && kept.has(answer)

/** Whether one of the tables that an answer was made of has been changed since. */
export function isOld(answer: unknown, now: Revisions): boolean {
  const made = isObject(answer) ? kept.get(answer) : undefined
  return !!made && Object.entries(made).some(([name, n]) => (now[name] ?? 0) > n)
}

/** What is kept of an answer, with parts of the one before that are equal, is made of the same. */
export function carryMadeOf(answer: unknown, instead: unknown): void {
  const made = isObject(answer) ? kept.get(answer) : undefined
  if (!isObject(instead)) return
  if (made) kept.set(instead, made)
  else kept.delete(instead)
}
