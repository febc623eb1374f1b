import { effectScope } from 'vue'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { keyLayers, onKey, useKeys } from './keys'

class FakeElement {
  isContentEditable = false
  type = ''
  constructor(readonly tagName = 'BODY') {}
}
class FakeInput extends FakeElement {}
let dialog: object | null = null
vi.stubGlobal('HTMLElement', FakeElement)
vi.stubGlobal('HTMLInputElement', FakeInput)
vi.stubGlobal('document', { querySelector: () => dialog })
vi.mock('vue', async (original) => ({ ...(await original<typeof import('vue')>()), onBeforeUnmount: () => undefined }))

const ran: string[] = []
const key = (name: string, always = false) => ({ key: name, message: name, always, run: () => void ran.push(name) })
const press = (name: string, more: object = {}, target: object = new FakeElement()) => {
  const event = { key: name, code: '', ctrlKey: false, metaKey: false, shiftKey: false, defaultPrevented: false, target, ...more }
  let kept = false
  onKey({ ...event, preventDefault: () => (kept = true) } as unknown as KeyboardEvent)
  return kept
}

beforeEach(() => {
  ran.length = 0
  dialog = null
  effectScope().run(() => useKeys('view', [key('a'), key('z'), key('enter'), key('ctrl+k', true), key('shift+1')]))
})
afterEach(() => void keyLayers.splice(0))

describe('a key', () => {
  it('does what the newest view means by it', () => {
    useKeys('bench', [{ ...key('a'), run: () => void ran.push('a of the bench') }])
    expect(press('a')).toBe(true)
    expect(press('Z')).toBe(true)
    expect(ran).toEqual(['a of the bench', 'z'])
  })
  it('is a letter while a field has the focus, unless it always counts', () => {
    for (const field of [new FakeInput('INPUT'), new FakeElement('TEXTAREA'), new FakeElement('SELECT')]) {
      expect(press('a', {}, field)).toBe(false)
      expect(press('k', { ctrlKey: true }, field)).toBe(true)
    }
    const box = Object.assign(new FakeInput('INPUT'), { type: 'checkbox' })
    expect(press('a', {}, box)).toBe(true)
    expect(ran).toEqual(['ctrl+k', 'ctrl+k', 'ctrl+k', 'a'])
  })
  it('does nothing behind an open dialog, nor where something else has taken it', () => {
    dialog = {}
    expect([press('a'), press('k', { metaKey: true })]).toEqual([false, true])
    dialog = null
    expect(press('a', { defaultPrevented: true })).toBe(false)
  })
  it('leaves Enter to the button that has the focus', () => {
    expect(press('Enter', {}, new FakeElement('BUTTON'))).toBe(false)
    expect(press('Enter')).toBe(true)
  })
  it('of a digit with Shift is known by its place, whatever sign it says on this keyboard', () => {
    for (const sign of ['!', '+', '&']) expect(press(sign, { shiftKey: true, code: 'Digit1' })).toBe(true)
    expect(ran).toEqual(['shift+1', 'shift+1', 'shift+1'])
  })
})
