export interface Point {
  at: number
  value: number
}

/** A step line through points in a box: the value holds until the next point, and to the right edge. */
export function stepPath(points: Point[], width: number, height: number, span: [number, number], range: [number, number]): string {
  if (!points.length) return ''
  const [from, to] = span
  const [low, high] = range[0] === range[1] ? [range[0] - 1, range[1] + 1] : range
  const x = (at: number) => (((Math.min(Math.max(at, from), to) - from) / (to - from || 1)) * width).toFixed(1)
  const y = (value: number) => (height - 2 - ((value - low) / (high - low)) * (height - 4)).toFixed(1)
  let path = `M${x(points[0]!.at)} ${y(points[0]!.value)}`
  for (const point of points.slice(1)) path += `H${x(point.at)}V${y(point.value)}`
  return `${path}H${width}`
}

export const rangeOf = (points: Point[]): [number, number] => [
  Math.min(...points.map((p) => p.value)),
  Math.max(...points.map((p) => p.value)),
]
