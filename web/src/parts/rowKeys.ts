/** A list that is walked by keys: J and K, or the arrows. */
import { ref, watch, type Ref } from 'vue'
import { useKeys, type Key } from '@/app/keys'

/** name: of the view; what: one row as a word; length: how many there are; more: keys of its own. Answers which row is chosen. */
export function useRowKeys(name: string, what: string, length: () => number, more: Key[] = []): Ref<number> {
  const active = ref(0)
  const go = (by: number) => (active.value = Math.max(0, Math.min(length() - 1, active.value + by)))
  // Where the last row was the chosen one and went, the one before it is.
  watch(length, (many) => {
    if (many > 0 && active.value >= many) go(0)
  })
  useKeys(name, [
    { key: 'j', message: `next ${what}`, run: () => go(1) },
    { key: 'arrowdown', message: `next ${what}`, run: () => go(1) },
    { key: 'k', message: `${what} before`, run: () => go(-1) },
    { key: 'arrowup', message: `${what} before`, run: () => go(-1) },
    ...more,
  ])
  return active
}
