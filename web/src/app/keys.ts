import { onBeforeUnmount, reactive } from 'vue'

export interface Key {
  /** As event.key says it, in small letters; 'ctrl+k' for combinations. */
  key: string
  message: string
  run: (event: KeyboardEvent) => void
  /** Also while a field has the focus. */
  always?: boolean
}

interface Layer {
  name: string
  keys: Key[]
}

const layers = reactive<Layer[]>([])

/** Keys of a view for as long as it is open; the newest layer is asked first. */
export function useKeys(name: string, keys: Key[]): void {
  const layer = { name, keys }
  layers.push(layer)
  onBeforeUnmount(() => {
    const at = layers.findIndex((one) => one.name === name && one.keys.length === keys.length)
    if (at >= 0) layers.splice(at, 1)
  })
}

export const keyLayers = layers

const inField = (target: EventTarget | null): boolean =>
  target instanceof HTMLElement &&
  (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) &&
  !(target instanceof HTMLInputElement && target.type === 'checkbox')

const plain = (event: KeyboardEvent): string =>
  (event.ctrlKey || event.metaKey ? 'ctrl+' : '') + (event.shiftKey && event.key.length > 1 ? 'shift+' : '') + event.key.toLowerCase()

export function onKey(event: KeyboardEvent): void {
  if (event.defaultPrevented) return
  const dialog = document.querySelector('[role="dialog"]')
  // With Shift a digit's key says another sign on every keyboard; its place is the same.
  const digit = event.shiftKey ? /^(?:Digit|Numpad)(\d)$/.exec(event.code)?.[1] : undefined
  const combo = digit && !event.ctrlKey && !event.metaKey ? `shift+${digit}` : plain(event)
  for (const layer of [...layers].reverse()) {
    for (const one of layer.keys) {
      if (one.key !== combo || (inField(event.target) && !one.always) || (dialog && !one.always)) continue
      // A focused button answers Enter and Space itself.
      if ((combo === 'enter' || combo === ' ') && event.target instanceof HTMLElement && /^(BUTTON|A|SUMMARY)$/.test(event.target.tagName))
        continue
      event.preventDefault()
      one.run(event)
      return
    }
  }
}
