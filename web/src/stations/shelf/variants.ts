/** Sizes and colours as they are typed and chosen, before they are kept. */
import type { Schema } from '@/api/client'
import { inField } from '@/parts/format'

export interface Draft {
  kept: boolean
  item: number | null
  price: string
  most: string
  picture: number | null
}
type Row = Schema<'CombinationOut'>
export const keyOf = (values: string[]): string => values.join('\u0000').toLowerCase()

/** What stands for a combination, as something that can be changed. fresh: nothing belongs together yet, so what is found is offered. */
export const draftOf = (row: Row, fresh: boolean): Draft => ({
  kept: row.part || (fresh && row.item !== null),
  item: row.item,
  price: row.by_hand ? inField(row.price?.amount) : '',
  most: row.most === null ? '' : String(row.most),
  picture: row.picture,
})

/** Values typed with commas between them, each once. */
export function valuesOf(text: string): string[] {
  const seen = new Map<string, string>()
  for (const one of text.split(/[,;\n]/).map((part) => part.trim().replace(/\s+/g, ' '))) {
    if (one && !seen.has(one.toLowerCase())) seen.set(one.toLowerCase(), one)
  }
  return [...seen.values()]
}

export const differs = (one: Draft, other: Draft): boolean =>
  one.kept !== other.kept ||
  (one.kept && (one.item !== other.item || one.price !== other.price || one.most !== other.most || one.picture !== other.picture))

/** What keeping would do: listings made, changed, dropped. */
export function effect(rows: Row[], drafts: Map<string, Draft>): { made: number; dropped: number; changed: number; lacking: number } {
  const out = { made: 0, dropped: 0, changed: 0, lacking: 0 }
  for (const row of rows) {
    const now = drafts.get(keyOf(row.values))
    if (!now) continue
    if (now.kept && !row.part && !now.item) out.lacking++
    else if (now.kept && !row.part) out.made++
    else if (!now.kept && row.part) out.dropped++
    else if (now.kept && differs(now, draftOf(row, false))) out.changed++
  }
  return out
}
