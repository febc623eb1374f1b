/** The house's own currency: what sums over stores and the amounts of its rules and limits are in. Said by the server at sign-in. */
import { computed, ref } from 'vue'
import { SIGNS, digits, major, minor, money } from './format'

export const home = ref('')
/** What amounts in price rules are in: they hold in each store's own currency, so the one that all stores share, else the house's. */
export const rulesIn = ref('')
export const rulesSign = computed(() => SIGNS[rulesIn.value] ?? rulesIn.value)
/** How it is called beside a field. */
export const homeSign = computed(() => SIGNS[home.value] ?? home.value)
export const homePlaces = (): number => (home.value ? digits(home.value) : 2)

/** An amount in major units. */
export const homeMoney = (value: number, sign = false): string =>
  home.value ? money({ amount: value.toFixed(homePlaces()), currency: home.value }, sign) : '–'

/** An amount of a rule in a sentence, short where there is nothing behind the point. */
export function ruleAmount(value: number): string {
  if (!rulesIn.value) return '–'
  const text = money({ amount: major(value, rulesIn.value), currency: rulesIn.value })
  return value % 10 ** digits(rulesIn.value) ? text : text.replace(/\.0+(?!\d)/, '')
}
export const rulePlaces = (): number => (rulesIn.value ? digits(rulesIn.value) : 2)
export const ruleTyped = (value: number): string => major(value, rulesIn.value)

/** Minor units as they are typed, and back. */
export const typed = (value: number): string => major(value, home.value)
export const untyped = (text: string): number => minor(text, home.value)
