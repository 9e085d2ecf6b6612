import { joinBytes, sameBytes, type Sha256 } from './bytes.ts'

/** The Merkle tree of RFC 6962, 2.1. Leaves are numbered from 0; sizes are whole numbers below 2⁵³. */

/** The root of a perfect subtree: of the 2^level leaves from index × 2^level on. */
export interface NodeAddress {
  level: number
  index: number
}

/** Asks for perfect nodes one by one and is given their hashes; whoever has them decides how they are fetched. */
export type Asking<T> = Generator<NodeAddress, T, Uint8Array>

const hashBytes = 32
/** A one before two hashes, used again and again: hashing reads it at once. */
const inner = new Uint8Array(1 + 2 * hashBytes)
inner[0] = 1

/** The hash of an inner node (RFC 6962, 2.1). */
export function innerHash(sha256: Sha256, left: Uint8Array, right: Uint8Array): Uint8Array {
  if (left.length !== hashBytes || right.length !== hashBytes)
    return sha256(joinBytes(inner.subarray(0, 1), left, right))
  inner.set(left, 1)
  inner.set(right, 1 + hashBytes)
  return sha256(inner)
}

/** The largest power of two below n, for n > 1. */
function split(n: number): number {
  let k = 1
  while (k * 2 < n) k *= 2
  return k
}

/** MTH(D[lo:hi]) for lo < hi (RFC 6962, 2.1). */
function* rangeHash(sha256: Sha256, lo: number, hi: number): Asking<Uint8Array> {
  const size = hi - lo
  const level = Math.log2(size)
  if (Number.isInteger(level)) return yield { level, index: lo / size }
  const k = split(size)
  return innerHash(sha256, yield* rangeHash(sha256, lo, lo + k), yield* rangeHash(sha256, lo + k, hi))
}

/** The root of a tree of some size; of an empty one the hash of nothing. */
export function* rootOf(sha256: Sha256, size: number): Asking<Uint8Array> {
  return size === 0 ? sha256('') : yield* rangeHash(sha256, 0, size)
}

/** PATH(m, D[n]): proves that a leaf is in a tree (RFC 6962, 2.1.1). */
export function* inclusionProof(sha256: Sha256, index: number, size: number): Asking<Uint8Array[]> {
  function* path(lo: number, hi: number): Asking<Uint8Array[]> {
    if (hi - lo === 1) return []
    const k = split(hi - lo)
    if (index < lo + k) return [...(yield* path(lo, lo + k)), yield* rangeHash(sha256, lo + k, hi)]
    return [...(yield* path(lo + k, hi)), yield* rangeHash(sha256, lo, lo + k)]
  }
  if (!(index >= 0 && index < size)) throw new RangeError(`there is no leaf ${index} in a tree of ${size}`)
  return yield* path(0, size)
}

/** PROOF(m, D[n]): proves that a tree only grew (RFC 6962, 2.1.2). */
export function* consistencyProof(sha256: Sha256, before: number, size: number): Asking<Uint8Array[]> {
  function* sub(m: number, lo: number, hi: number, whole: boolean): Asking<Uint8Array[]> {
    if (m === hi - lo) return whole ? [] : [yield* rangeHash(sha256, lo, hi)]
    const k = split(hi - lo)
    if (m <= k) return [...(yield* sub(m, lo, lo + k, whole)), yield* rangeHash(sha256, lo + k, hi)]
    return [...(yield* sub(m - k, lo + k, hi, false)), yield* rangeHash(sha256, lo, lo + k)]
  }
  if (!(before >= 0 && before <= size)) throw new RangeError(`a tree of ${size} did not grow from one of ${before}`)
  return before === 0 ? [] : yield* sub(before, 0, size, true)
}

/** Whether a leaf is in the tree with this root (RFC 9162, 2.1.3.2). */
export function provesInclusion(
  sha256: Sha256,
  {
    leaf,
    index,
    size,
    root,
    proof,
  }: { leaf: Uint8Array; index: number; size: number; root: Uint8Array; proof: readonly Uint8Array[] },
): boolean {
  if (!(Number.isSafeInteger(index) && Number.isSafeInteger(size) && index >= 0 && index < size)) return false
  let [at, last, hash] = [index, size - 1, leaf]
  for (const one of proof) {
    if (last === 0) return false
    if (at % 2 === 1 || at === last) {
      hash = innerHash(sha256, one, hash)
      while (at % 2 === 0 && at !== 0) [at, last] = [at / 2, Math.floor(last / 2)]
    } else hash = innerHash(sha256, hash, one)
    ;[at, last] = [Math.floor(at / 2), Math.floor(last / 2)]
  }
  return last === 0 && sameBytes(hash, root)
}

/** Whether the tree with the second root grew from that with the first (RFC 9162, 2.1.4.2). */
export function provesConsistency(
  sha256: Sha256,
  {
    first,
    firstRoot,
    second,
    secondRoot,
    proof,
  }: { first: number; firstRoot: Uint8Array; second: number; secondRoot: Uint8Array; proof: readonly Uint8Array[] },
): boolean {
  if (!(Number.isSafeInteger(first) && Number.isSafeInteger(second) && first >= 0 && first <= second)) return false
  if (first === second) return proof.length === 0 && sameBytes(firstRoot, secondRoot)
  if (first === 0) return proof.length === 0 && sameBytes(firstRoot, sha256(''))
  const path = Number.isInteger(Math.log2(first)) ? [firstRoot, ...proof] : [...proof]
  const [begin, ...rest] = path
  if (!begin) return false
  let [at, last] = [first - 1, second - 1]
  while (at % 2 === 1) [at, last] = [Math.floor(at / 2), Math.floor(last / 2)]
  let [old, grown] = [begin, begin]
  for (const one of rest) {
    if (last === 0) return false
    if (at % 2 === 1 || at === last) {
      old = innerHash(sha256, one, old)
      grown = innerHash(sha256, one, grown)
      while (at % 2 === 0 && at !== 0) [at, last] = [at / 2, Math.floor(last / 2)]
    } else grown = innerHash(sha256, grown, one)
    ;[at, last] = [Math.floor(at / 2), Math.floor(last / 2)]
  }
  return last === 0 && sameBytes(old, firstRoot) && sameBytes(grown, secondRoot)
}

/** Runs an asking computation where the nodes are at hand. */
export function answered<T>(asking: Asking<T>, nodeAt: (address: NodeAddress) => Uint8Array): T {
  let step = asking.next()
  while (!step.done) step = asking.next(nodeAt(step.value))
  return step.value
}

/** Runs an asking computation where the nodes have to be fetched. */
export async function fetched<T>(asking: Asking<T>, nodeAt: (address: NodeAddress) => Promise<Uint8Array>): Promise<T> {
  let step = asking.next()
  while (!step.done) step = asking.next(await nodeAt(step.value))
  return step.value
}

/** The root of a tree that grows, from the perfect subtrees that it is made of so far. */
export class GrowingRoot {
  readonly #sha256: Sha256
  readonly #peaks: { level: number; hash: Uint8Array }[] = []
  constructor(sha256: Sha256) {
    this.#sha256 = sha256
  }

  /** Adds a leaf (level 0), or a perfect subtree of 2^level leaves where one begins. */
  push(level: number, hash: Uint8Array): void {
    let one = { level, hash }
    while (this.#peaks.at(-1)?.level === one.level)
      one = { level: one.level + 1, hash: innerHash(this.#sha256, this.#peaks.pop()!.hash, one.hash) }
    this.#peaks.push(one)
  }

  root(): Uint8Array {
    const last = this.#peaks.at(-1)
    if (!last) return this.#sha256('')
    return this.#peaks.slice(0, -1).reduceRight((right, { hash }) => innerHash(this.#sha256, hash, right), last.hash)
  }
}
