import { afterEach, describe, expect, it, vi } from 'vitest'
import { place } from '@/parts/format'
import { centred, fitting, fromMm, heightOf, mm } from './print'

vi.mock('@/api/client', () => ({ api: {}, take: async () => undefined, ROOT: '' }))
afterEach(() => void Object.assign(place, { decimal: '.', group: ',' }))

const AREAS = [
  { area_w: 28_000, area_h: 35_000 },
  { area_w: 1, area_h: 1 },
  { area_w: 90_000, area_h: 300 },
]
const SHAPES = [
  { shape_w: 1, shape_h: 1 },
  { shape_w: 3, shape_h: 4 },
  { shape_w: 4_000, shape_h: 37 },
]

describe('where artwork lies', () => {
  it('fits as large as the area allows, whatever its shape, and a little more would not fit', () => {
    for (const area of AREAS)
      for (const shape of SHAPES) {
        const spot = fitting(area, shape)
        expect(spot.w).toBeLessThanOrEqual(area.area_w)
        expect((spot.w * shape.shape_h) / shape.shape_w).toBeLessThanOrEqual(area.area_h)
        const more = spot.w + 1
        expect(more > area.area_w || (more * shape.shape_h) / shape.shape_w > area.area_h).toBe(true)
      }
  })
  it('lies in the middle to a hundredth of a millimetre', () => {
    const spot = centred({ x: 0, y: 0, w: 9_001 }, AREAS[0]!, SHAPES[1]!)
    expect(Math.abs(spot.x * 2 + spot.w - AREAS[0]!.area_w)).toBeLessThanOrEqual(1)
    expect(Math.abs(spot.y * 2 + heightOf(spot.w, SHAPES[1]!) - AREAS[0]!.area_h)).toBeLessThanOrEqual(1)
  })
  it('is typed in millimetres as the house writes them', () => {
    for (const [decimal, group] of [
      ['.', ','],
      [',', '.'],
    ]) {
      Object.assign(place, { decimal, group })
      for (const value of [0, 5, 10, 1_234, 28_000]) expect(fromMm(mm(value, 2))).toBe(value)
    }
  })
})
