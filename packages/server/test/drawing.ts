/** A generator of drawn numbers below n, the same for a seed everywhere. */
export function drawing(seed: number): (n: number) => number {
  let state = seed >>> 0
  return (n) => {
    state = (Math.imul(state ^ (state >>> 15), 0x2c1b3c6d) + 0x9e3779b9) >>> 0
    return ((state ^ (state >>> 13)) >>> 0) % n
  }
}
