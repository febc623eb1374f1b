/** The house's own currency: what sums over stores and the amounts of its rules and limits are in. Said by the server at sign-in. */
import { computed, ref } from 'vue'
import { SIGNS, digits, major, minor, money } from './format'

export const home = ref('')
/** How it is called beside a field. */
export const homeSign = computed(() => SIGNS[home.value] ?? home.value)
export const homePlaces = (): number => (home.value ? digits(home.value) : 2)

/** An amount in major units. */
export const homeMoney = (value: number, sign = false): string =>
  home.value ? money({ amount: value.toFixed(homePlaces()), currency: home.value }, sign) : '–'

/** Minor units in a sentence, short where there is nothing behind the point. */
export function homeMinor(value: number): string {
  const unit = 10 ** homePlaces()
  return value % unit ? homeMoney(value / unit) : homeMoney(value / unit).replace(/\.0+(?!\d)/, '')
}

/** Minor units as they are typed, and back. */
export const typed = (value: number): string => major(value, home.value)
export const untyped = (text: string): number => minor(text, home.value)
