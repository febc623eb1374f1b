/** Where the bars of a bridge stand: one total, the effects one after the other, the other total. */
export interface Bar {
  /** Of the height, from the top, in percent; and how high. */
  top: number
  height: number
  /** Where the level is after it, from the top. */
  level: number
}

export function bars(before: number, effects: number[], after: number): Bar[] {
  const levels = [before]
  for (const one of effects) levels.push(levels.at(-1)! + one)
  const high = Math.max(0, after, ...levels)
  const low = Math.min(0, after, ...levels)
  const span = high - low || 1
  const y = (value: number) => ((high - value) / span) * 100
  const bar = (from: number, to: number, level: number): Bar => ({
    top: y(Math.max(from, to)),
    height: Math.max(y(Math.min(from, to)) - y(Math.max(from, to)), 0.6),
    level: y(level),
  })
  return [bar(0, before, before), ...effects.map((one, n) => bar(levels[n]!, levels[n]! + one, levels[n + 1]!)), bar(0, after, after)]
}
