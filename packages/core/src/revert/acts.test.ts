import fc from 'fast-check'
import { expect, it } from 'vitest'
import { actsOf, type Reference } from './acts.ts'
import type { GuardedWrite } from './plan.ts'

/** Records of one type with a field 1 that refers to another of them, or to none. */
const references = (optional: boolean): Reference[] => [{ toTypeId: 1, optional, parts: [{ fieldId: 1, keyAt: null }] }]
const write = (act: GuardedWrite['act'], key: number, to: number | null): GuardedWrite => {
  const value = to === null ? null : String(to)
  return {
    act,
    typeId: 1,
    key: JSON.stringify([String(key)]),
    fieldId: 1,
    expected: act === 'remove' ? value : null,
    value: act === 'remove' ? null : value,
  }
}
const graph = fc.array(fc.option(fc.nat(11), { nil: null }), { minLength: 1, maxLength: 12 })

it('a source that minds every reference at every step takes all of it, both ways', () => {
  fc.assert(
    fc.property(graph, fc.boolean(), (to, removeFirst) => {
      // The source: who is there, and what each refers to.
      const there = new Map<string, string | null>()
      const carry = (writes: GuardedWrite[]) => {
        const acts = actsOf(writes, () => references(true), { removeFirst })
        for (const step of new Set(acts.map((act) => act.step))) {
          for (const { act, key, writes: of } of acts.filter((one) => one.step === step)) {
            const [own] = JSON.parse(key) as [string]
            if (act === 'remove') {
              expect(there.get(own)).toBe(of[0]!.expected)
              there.delete(own)
            } else {
              if (act === 'set') expect(there.get(own)).toBe(of[0]!.expected)
              there.set(own, of[0]!.value)
            }
          }
          for (const refers of there.values()) if (refers !== null) expect(there.has(refers)).toBe(true)
        }
      }
      const links = to.map((one) => (one !== null && one < to.length ? one : null))
      carry(links.map((one, key) => write('recreate', key, one)))
      expect([...there].sort()).toEqual(
        links.map((one, key) => [String(key), one === null ? null : String(one)]).sort(),
      )
      carry(links.map((one, key) => write('remove', key, one)))
      expect(there.size).toBe(0)
    }),
  )
})

it('a circle that must hold is left to the source', () => {
  const acts = actsOf([write('recreate', 0, 1), write('recreate', 1, 0)], () => references(false))
  expect(acts.map(({ act, step }) => [act, step])).toEqual([
    ['recreate', 0],
    ['recreate', 0],
  ])
})

it('a chain of ten thousand is no matter', () => {
  const writes = Array.from({ length: 10_000 }, (_, at) => write('recreate', at, at + 1 < 10_000 ? at + 1 : null))
  const acts = actsOf(writes, () => references(true))
  expect(acts[0]!.key).toBe('["9999"]')
  expect(acts.at(-1)!.key).toBe('["0"]')
})
