/** A small seeded generator (mulberry32): the same seed gives the same Larkmere on every machine. */
export class Chance {
  #state: number
  constructor(seed: number) {
    this.#state = seed >>> 0
  }

  /** At least 0, below 1. */
  next(): number {
    this.#state = (this.#state + 0x6d2b79f5) >>> 0
    let t = this.#state
    t = Math.imul(t ^ (t >>> 15), t | 1)
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61)
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296
  }

  /** A whole number from `least` to `most`, both included. */
  whole(least: number, most: number): number {
    return least + Math.floor(this.next() * (most - least + 1))
  }

  odds(probability: number): boolean {
    return this.next() < probability
  }

  pick<T>(list: readonly T[]): T {
    return list[Math.floor(this.next() * list.length)]!
  }

  /** `count` different members, in list order. */
  some<T>(list: readonly T[], count: number): T[] {
    const left = [...list]
    while (left.length > count) left.splice(Math.floor(this.next() * left.length), 1)
    return left
  }

  /** An independent generator, so that adding draws in one place does not move all others. */
  fork(label: string): Chance {
    let h = this.#state ^ 0x9e3779b9
    for (let i = 0; i < label.length; i++) h = Math.imul(h ^ label.charCodeAt(i), 0x01000193)
    return new Chance(h)
  }
}
