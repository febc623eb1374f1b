/** The house's own currency: what sums over stores and the amounts of its rules and limits are in. Said by the server at sign-in. */
import { computed, ref } from 'vue'
import { SIGNS, amountOf, digits, major, minor, minorInField, money } from './format'

export const home = ref('')
/** What amounts of a new price rule are in: the money that all stores share, else the house's. */
export const rulesIn = ref('')
export const signOf = (currency: string): string => SIGNS[currency] ?? currency
/** How it is called beside a field. */
export const homeSign = computed(() => signOf(home.value))
export const homePlaces = (): number => (home.value ? digits(home.value) : 2)

/** An amount in major units. */
export const homeMoney = (value: number, sign = false): string => amountOf(value, home.value, sign)

/** An amount of a rule in a sentence, short where there is nothing behind the point. */
export function ruleAmount(value: number, currency: string): string {
  if (!currency) return '–'
  const amount = major(value, currency)
  return money({ amount: value % 10 ** digits(currency) ? amount : amount.replace(/\.\d+$/, ''), currency })
}

/** Minor units as they are typed, and back. */
export const typed = (value: number): string => minorInField(value, home.value)
export const untyped = (text: string): number => minor(text, home.value)
