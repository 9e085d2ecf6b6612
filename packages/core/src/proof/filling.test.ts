import { createHash } from 'node:crypto'
import fc from 'fast-check'
import { expect, it } from 'vitest'
import type { Sha256 } from './bytes.ts'
import { FilledRoot, fillingNodes } from './filling.ts'

const sha256: Sha256 = (data) => new Uint8Array(createHash('sha256').update(data).digest())
const leafOf = (n: number) => sha256(`leaf ${n}`)

/** MTH as RFC 6962, 2.1 writes it, over all leaves from one to another. */
function mth(from: number, to: number): Uint8Array {
  if (to - from === 1) return leafOf(from)
  let k = 1
  while (k * 2 < to - from) k *= 2
  return sha256(Buffer.concat([Buffer.of(1), mth(from, from + k), mth(from + k, to)]))
}
const nodes = (from: number, to: number) =>
  fillingNodes(from, to).map(({ level, index }) => mth(index * 2 ** level, (index + 1) * 2 ** level))

/** The root from some leaves and what fills the rest, and what is put in the place of it. */
function filled(size: number, have: readonly number[], alter: (hashes: Uint8Array[], at: number) => Uint8Array[]) {
  const root = new FilledRoot(sha256)
  let next = 0
  for (const [at, leaf] of [...have, size].entries()) {
    if (!root.fill(leaf, alter(nodes(next, leaf), at))) return null
    if (leaf < size) root.leaf(leafOf(leaf))
    next = leaf + 1
  }
  return root.root()
}

const drawn = fc.integer({ min: 1, max: 90 }).chain((size) =>
  fc.tuple(
    fc.constant(size),
    fc.uniqueArray(fc.integer({ min: 0, max: size - 1 })).map((list) => list.sort((a, b) => a - b)),
    fc.nat(),
  ),
)

it('any leaves of any tree and what fills it between them give its root', () => {
  fc.assert(
    fc.property(drawn, ([size, have]) => {
      const root = filled(size, have, (hashes) => hashes)
      expect(root?.size).toBe(size)
      expect(Buffer.from(root!.root).equals(Buffer.from(mth(0, size)))).toBe(true)
    }),
  )
})

it('another hash, one too many or one too few gives no root or another', () => {
  fc.assert(
    fc.property(drawn, fc.constantFrom('other', 'more', 'fewer'), ([size, have, draw], how) => {
      const place = draw % (have.length + 1)
      const changed = (hashes: Uint8Array[]) => {
        if (how === 'more') return [...hashes, leafOf(-1)]
        if (hashes.length === 0) return null
        return how === 'fewer' ? hashes.slice(1) : [leafOf(-1), ...hashes.slice(1)]
      }
      let altered = false
      const root = filled(size, have, (hashes, at) => {
        const other = at === place ? changed(hashes) : null
        altered ||= other !== null
        return other ?? hashes
      })
      fc.pre(altered)
      expect(root === null || !Buffer.from(root.root).equals(Buffer.from(mth(0, size)))).toBe(true)
    }),
  )
})

it('takes no place that is none', () => {
  for (const to of [-1, 0.5, NaN, Infinity, 2 ** 60]) expect(new FilledRoot(sha256).fill(to, [])).toBe(false)
})
