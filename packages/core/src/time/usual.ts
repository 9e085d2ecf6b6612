/** So many times the usual is far above it, and so many more at the least: twice of one is nothing to look at. */
const timesUsual = 3
const leastMore = 5

/** Whether a count stands out against what is usual for it. */
export function unusual(count: number, usual: number): boolean {
  return count >= usual * timesUsual && count - usual >= leastMore
}
