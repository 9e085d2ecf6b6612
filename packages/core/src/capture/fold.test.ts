import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { foldRows, type CapturedRow } from './fold.ts'

let clock = 0
const row = (
  transaction: string,
  key: string,
  delta: CapturedRow['delta'],
  action: CapturedRow['action'] = 'change',
) => ({
  transaction,
  at: String(++clock),
  typeId: 1,
  key,
  keyBefore: null as string | null,
  action,
  delta,
})

describe('folding captured rows into saves', () => {
  it('joins what a business trigger adds to the save that caused it', () => {
    const saves = foldRows([row('7', 'a', { 1: ['100', '110'] }), row('7', 'a', { 2: ['433', '476'] })])
    expect(saves).toMatchObject([{ key: 'a', delta: { 1: ['100', '110'], 2: ['433', '476'] } }])
  })

  it.each([
    ['the same field twice', [row('7', 'a', { 1: ['1', '2'] }), row('7', 'a', { 1: ['2', '3'] })]],
    ['two transactions', [row('7', 'a', { 1: ['1', '2'] }), row('8', 'a', { 2: ['2', '3'] })]],
    ['two records', [row('7', 'a', { 1: ['1', '2'] }), row('7', 'b', { 2: ['2', '3'] })]],
    ['a creation then a change', [row('7', 'a', { 1: [null, '2'] }, 'create'), row('7', 'a', { 2: ['2', '3'] })]],
    ['a change then a deletion', [row('7', 'a', { 1: ['1', '2'] }), row('7', 'a', { 2: ['2', null] }, 'delete')]],
  ])('keeps apart: %s', (_, rows) => expect(foldRows(rows)).toEqual(rows))

  it('never loses or changes a captured value', () => {
    const anyRow = fc.record({
      transaction: fc.constantFrom('1', '2'),
      at: fc.constantFrom('1', '2', '3'),
      typeId: fc.constantFrom(1, 2),
      keyBefore: fc.constantFrom(null, null, 'a', 'b', 'c'),
      key: fc.constantFrom('a', 'b'),
      action: fc.constantFrom('create' as const, 'change' as const, 'delete' as const),
      delta: fc.dictionary(fc.constantFrom('1', '2', '3'), fc.tuple(fc.string(), fc.string()), { maxKeys: 3 }),
    })
    const values = (rows: readonly CapturedRow[]) =>
      rows
        .flatMap((r) => Object.entries(r.delta).map(([f, v]) => JSON.stringify([r.transaction, r.typeId, r.key, f, v])))
        .sort()
    fc.assert(
      fc.property(fc.array(anyRow, { maxLength: 20 }), (rows) => {
        expect(values(foldRows(rows))).toEqual(values(rows))
      }),
    )
  })
})
