export interface Bar {
  from: number
  width: number
}

/** Bars of a waterfall in percent of the widest; amounts that are taken fall from right to left. */
export function fall(steps: { amount: number; total: boolean }[]): Bar[] {
  let level = 0
  let low = 0
  let high = 0.0001
  const spans = steps.map((step, i) => {
    const from = step.total ? 0 : level
    const to = step.total ? step.amount : level + step.amount
    level = i === 0 || !step.total ? to : level
    low = Math.min(low, from, to)
    high = Math.max(high, from, to)
    return [Math.min(from, to), Math.max(from, to)] as const
  })
  const scale = 100 / (high - low)
  return spans.map(([from, to]) => ({ from: (from - low) * scale, width: Math.max((to - from) * scale, 0.8) }))
}
