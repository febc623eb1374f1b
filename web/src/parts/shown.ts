import { nextTick, type Directive } from 'vue'

type Field = HTMLInputElement & { shown?: string }

const text = (value: unknown): string => (value === undefined || value === null ? '' : String(value))
const show = (el: Field) => {
  if (document.activeElement !== el) el.value = el.shown ?? ''
}

/**
 * What a field shows while nobody types in it, for fields that are read once they are left (@change). Its `value` would be drawn anew whenever
 * anything of the view changes, and wipe what is being typed.
 */
export const vShown: Directive<Field, unknown> = {
  mounted(el, { value }) {
    el.value = el.shown = text(value)
    el.addEventListener('blur', () => void nextTick(() => show(el)))
  },
  updated(el, { value }) {
    el.shown = text(value)
    show(el)
  },
}
