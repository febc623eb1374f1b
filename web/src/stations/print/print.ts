/** What the print views ask for, with its keys, and where artwork lies: hundredths of a millimetre, from the area's top left corner. */
import { ROOT, api, take, type Schema } from '@/api/client'
import { fixed, numberOf } from '@/parts/format'

export type Design = Schema<'DesignOut'>
export type Spot = Schema<'SpotOut'>

export const designsQuery = () => ({ queryKey: ['print', 'designs'], queryFn: () => take(api.GET('/api/v1/printing/designs')) })
export const artworkQuery = () => ({ queryKey: ['print', 'artwork'], queryFn: () => take(api.GET('/api/v1/printing/artwork')) })
export const storesQuery = () => ({ queryKey: ['shelf-stores'], queryFn: () => take(api.GET('/api/v1/shelf/stores')) })
export const housesQuery = (kind: string, store: number) => ({
  queryKey: ['print', 'houses', kind, store],
  queryFn: () => take(api.GET('/api/v1/printing/houses', { params: { query: { kind, store } } })),
  enabled: !!kind && !!store,
})
export const designQuery = (design: number, store: number, side: string) => ({
  queryKey: ['print', 'design', design, store, side],
  queryFn: () => take(api.GET('/api/v1/printing/designs/{number}', { params: { path: { number: design }, query: { store, side } } })),
})
export const sceneQuery = (design: number, size: string, side: string) => ({
  queryKey: ['print', 'scene', design, size, side],
  queryFn: () => take(api.GET('/api/v1/printing/designs/{number}/scene', { params: { path: { number: design }, query: { side } } })),
  enabled: !!side,
})

export const sentQuery = (order: number) => ({
  queryKey: ['print', 'sent', order],
  queryFn: () => take(api.GET('/api/v1/printing/orders/{number}', { params: { path: { number: order } } })),
})
const asked = (query: Record<string, string>) => new URLSearchParams(query).toString()
export const blankPicture = (of: Design, colour: string, side: string): string =>
  `${ROOT}/api/v1/printing/blanks/${of.blank}/picture?${asked({ colour, size: of.size, side, version: String(of.blank_version) })}`
export const artPicture = (version: number): string => `${ROOT}/api/v1/printing/versions/${version}/picture`
export const filePicture = (file: number): string => `${ROOT}/api/v1/printing/files/${file}`
/** mark: changes with all that the picture shows, so that a kept one is never an old one. */
export const designPicture = (of: Design, colour: Schema<'PrintColour'>, side: string): string => {
  const at = of.places[side]
  const mark = [of.blank_version, colour.version, at?.x, at?.y, at?.w, of.size].join('-')
  return `${ROOT}/api/v1/printing/designs/${of.id}/picture?${asked({ colour: colour.name, side, mark })}`
}

export const mm = (hundredths: number, places = 1): string => fixed(hundredths / 100, places)
export const fromMm = (text: string): number => Math.round(numberOf(text) * 100)

/** How high artwork is that is so wide. */
export const heightOf = (w: number, of: Pick<Design, 'shape_w' | 'shape_h'>): number =>
  Math.max(1, Math.round((w * of.shape_h) / of.shape_w))

interface Area {
  area_w: number
  area_h: number
}
type Shape = Pick<Design, 'shape_w' | 'shape_h'>
export const centred = (spot: Spot, area: Area, of: Shape): Spot => ({
  ...spot,
  x: Math.round((area.area_w - spot.w) / 2),
  y: Math.round((area.area_h - heightOf(spot.w, of)) / 2),
})
/** As large as the area allows, in its middle. */
export function fitting(area: Area, of: Shape): Spot {
  const w = Math.floor(Math.min(area.area_w, (area.area_h * of.shape_w) / of.shape_h))
  return centred({ x: 0, y: 0, w }, area, of)
}
export const FAULTS: Record<string, string> = {
  soft: 'too soft',
  outside: 'outside',
  unreadable: 'unreadable',
  no_version: 'no version',
  no_area: 'not printed',
}
/** What a version is shown on: cloth of the sort that it is made for. */
export const groundClass = (version: { ground: string } | undefined): string =>
  version?.ground === 'dark' ? 'bg-asphalt-2' : version?.ground === 'light' ? 'bg-paper' : 'bg-rule'
export const GROUNDS: Record<string, string> = { any: 'for any cloth', light: 'for light cloth', dark: 'for dark cloth' }
export const KINDS: Record<string, string> = {
  bag: 'Bags',
  mug: 'Mugs',
  cushion: 'Cushions',
  blanket: 'Blankets',
  paper: 'Prints on paper',
}
