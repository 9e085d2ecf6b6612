/** A small seeded generator: the same seed gives the same world, so that a failure can be played again. */
export class Chance {
  #state: number
  constructor(seed: number) {
    this.#state = seed >>> 0
    for (let at = 0; at < 4; at++) this.next()
  }

  /** From 0 up to, and without, 1. */
  next(): number {
    // Mulberry32: small, and good enough in its low bits to draw from short lists.
    this.#state = (this.#state + 0x6d2b79f5) >>> 0
    let mixed = this.#state
    mixed = Math.imul(mixed ^ (mixed >>> 15), mixed | 1)
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61)
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296
  }

  whole(most: number): number {
    return Math.floor(this.next() * most)
  }

  one<T>(list: readonly T[]): T {
    return list[this.whole(list.length)]!
  }

  /** Some of a list, in its order, at least one. */
  some<T>(list: readonly T[], most: number): T[] {
    const wanted = new Set(Array.from({ length: 1 + this.whole(Math.min(most, list.length)) }, () => this.one(list)))
    return list.filter((one) => wanted.has(one))
  }

  yes(share: number): boolean {
    return this.next() < share
  }
}
