import { createHash } from 'node:crypto'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import type { Sha256, Sha256Hex } from './bytes.ts'
import { fromHex, toHex } from './bytes.ts'
import { canonicalJson, type Json } from './canonical.ts'
import { canonicalFound, foundSalt, foundSalts, proveFound, readTakingWords, takingWords } from './found.ts'
import { commitment, leafText } from './leaf.ts'
import { answered, GrowingRoot, inclusionProof, innerHash, rootOf } from './merkle.ts'

const sha256: Sha256 = (data) => new Uint8Array(createHash('sha256').update(data).digest())
const sha256Hex: Sha256Hex = (text) => createHash('sha256').update(text).digest('hex')
const tools = { sha256, sha256Hex, signed: () => false }

/** The definition of RFC 6962, 2.1, as it is written there. */
function treeHash(leaves: readonly Uint8Array[]): Uint8Array {
  if (leaves.length === 0) return sha256('')
  if (leaves.length === 1) return leaves[0]!
  let k = 1
  while (k * 2 < leaves.length) k *= 2
  return innerHash(sha256, treeHash(leaves.slice(0, k)), treeHash(leaves.slice(k)))
}

const value = fc.option(fc.oneof(fc.string(), fc.constantFrom('0', '1', 'ü "q" \\', '<b>')), { nil: null })
const found = fc.record({
  fields: fc.uniqueArray(fc.integer({ min: 1, max: 40 }), { minLength: 1, maxLength: 8 }),
  values: fc.array(value, { minLength: 8, maxLength: 8 }),
  salt: fc.uint8Array({ minLength: 32, maxLength: 32 }).map(toHex),
  key: fc.string(),
})

describe('what was found', () => {
  it('proves for one record alone, and nothing else that is said of it does', () => {
    fc.assert(
      fc.property(fc.array(found, { minLength: 1, maxLength: 20 }), fc.nat(), (records, which) => {
        const canonicals = records.map(({ fields, values, salt, key }, place) =>
          canonicalFound({
            taking: 3,
            place,
            sourceId: 1,
            typeId: 2,
            planVersion: 1,
            key,
            label: key,
            parentKey: null,
            at: '2026-01-01T00:00:00Z',
            snapshot: '7:9:8',
            values: [...fields]
              .sort((a, b) => a - b)
              .map((fieldId, at) => ({
                fieldId,
                value: commitment(sha256Hex, foundSalt(sha256Hex, salt, fieldId), values[at]!),
              })),
          }),
        )
        for (const one of canonicals) expect(one).toBe(canonicalJson(JSON.parse(one) as Json))
        for (const { salt, fields } of records)
          expect(foundSalts(sha256Hex, salt, fields)).toEqual(fields.map((field) => foundSalt(sha256Hex, salt, field)))
        expect(new Set(foundSalts(sha256Hex, records[0]!.salt, [1, 2, 3, 4, 5])).size).toBe(5)
        const leaves = canonicals.map((one) => fromHex(sha256Hex(leafText(one)))!)
        const root = treeHash(leaves)
        const place = which % records.length
        const one = records[place]!
        const openings = [...one.fields]
          .sort((a, b) => a - b)
          .map((fieldId, at) => ({
            fieldId,
            salt: foundSalt(sha256Hex, one.salt, fieldId),
            value: one.values[at]!,
          }))
        const perfect = ({ level, index }: { level: number; index: number }) =>
          treeHash(leaves.slice(index * 2 ** level, (index + 1) * 2 ** level))
        const proof = answered(inclusionProof(sha256, place, leaves.length), perfect).map(toHex)
        const words = takingWords({
          taking: 3,
          records: leaves.length,
          whole: true,
          plural: 'things',
          root: toHex(root),
        })
        const handed = { canonical: canonicals[place]!, proof, openings, words }
        const outcomes = (more: object) => proveFound(tools, { ...handed, ...more }).map(({ outcome }) => outcome)
        expect(outcomes({})).toEqual(['passed', 'passed'])
        // A field may stay closed; a value that was not there may not be shown.
        expect(outcomes({ openings: openings.slice(1) })).toEqual(['passed', 'passed'])
        const [first] = openings
        expect(outcomes({ openings: [{ ...first!, value: `${first!.value ?? ''}!` }] })[0]).toBe('failed')
        expect(outcomes({ canonical: handed.canonical.replace('"taking":3', '"taking":4') })[1]).toBe('failed')
        expect(outcomes({ words: words.replace('taking 3', 'taking 4') })[1]).toBe('failed')
        expect(outcomes({ words: 'took in as found nothing' })[1]).toBe('failed')
        if (proof.length > 0) expect(outcomes({ proof: proof.slice(1) })[1]).toBe('failed')
        expect(outcomes({ canonical: 'no list' })).toEqual(['failed'])
      }),
      { numRuns: 60 },
    )
  })

  it('grows to the root of RFC 6962 leaf by leaf, and by whole subtrees', () => {
    for (const size of [0, 1, 2, 3, 5, 8, 13, 64, 100]) {
      const leaves = Array.from({ length: size }, (_, n) => sha256(`leaf ${n}`))
      const grown = new GrowingRoot(sha256)
      for (const leaf of leaves) grown.push(0, leaf)
      expect(toHex(grown.root())).toBe(toHex(treeHash(leaves)))
      expect(toHex(grown.root())).toBe(
        toHex(
          answered(rootOf(sha256, size), ({ level, index }) =>
            treeHash(leaves.slice(index * 2 ** level, (index + 1) * 2 ** level)),
          ),
        ),
      )
    }
  })

  it('is read from the words of its event, whatever the records are called', () => {
    const root = 'a'.repeat(64)
    const odd = takingWords({ taking: 12, records: 2345, whole: false, plural: 'x (taking 1, leaves 2, root 3)', root })
    expect(odd).toContain('2,345 records')
    expect(odd).toContain('which is not all of them')
    expect(readTakingWords(odd)).toEqual({ taking: 12, records: 2345, root })
  })
})
