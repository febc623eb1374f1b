/** A title cut into pieces by its marks, for drawing. */
export interface Mark {
  start: number
  end: number
  kind: string
}

export interface Piece {
  text: string
  kind: string
}

export function pieces(title: string, marks: readonly Mark[]): Piece[] {
  const out: Piece[] = []
  // Marks count letters as the server does, whole characters and not halves of them.
  const letters = [...title]
  let at = 0
  for (const { start, end, kind } of marks) {
    if (start < at) continue
    if (start > at) out.push({ text: letters.slice(at, start).join(''), kind: '' })
    out.push({ text: letters.slice(start, end).join(''), kind })
    at = end
  }
  if (at < letters.length) out.push({ text: letters.slice(at).join(''), kind: '' })
  return out
}
