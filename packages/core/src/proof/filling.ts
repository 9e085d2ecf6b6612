import type { Sha256 } from './bytes.ts'
import { GrowingRoot, type NodeAddress } from './merkle.ts'

/**
 * One proof for many leaves (rule 17): between the leaves that somebody has, the tree is filled with perfect subtrees, from
 * left to right each the largest that fits.
 */

/** The subtrees that fill a tree from one leaf to another, that one not included. */
export function fillingNodes(from: number, to: number): NodeAddress[] {
  const nodes: NodeAddress[] = []
  for (let at = from; at < to;) {
    let level = 0
    while (at % 2 ** (level + 1) === 0 && at + 2 ** (level + 1) <= to) level++
    nodes.push({ level, index: at / 2 ** level })
    at += 2 ** level
  }
  return nodes
}

/** Reckons the root of a tree from some of its leaves, in their order, and what fills it between them. */
export class FilledRoot {
  readonly #growing: GrowingRoot
  #next = 0

  constructor(sha256: Sha256) {
    this.#growing = new GrowingRoot(sha256)
  }

  /** @returns whether as many hashes were given as fill the tree up to there */
  fill(to: number, hashes: readonly Uint8Array[]): boolean {
    if (!Number.isSafeInteger(to) || to < this.#next) return false
    const nodes = fillingNodes(this.#next, to)
    if (nodes.length !== hashes.length) return false
    nodes.forEach(({ level }, at) => this.#growing.push(level, hashes[at]!))
    this.#next = to
    return true
  }

  leaf(hash: Uint8Array): void {
    this.#growing.push(0, hash)
    this.#next++
  }

  /** Of as many leaves as were given or filled. */
  root(): { size: number; root: Uint8Array } {
    return { size: this.#next, root: this.#growing.root() }
  }
}
