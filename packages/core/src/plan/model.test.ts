import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import {
  comparePlans,
  editsBetween,
  emptyPlan,
  isFieldEdit,
  keepOf,
  rulesOf,
  threeState,
  withEdits,
  type FieldEdit,
} from './model.ts'

const edit = fc.record({
  typeId: fc.integer({ min: 1, max: 4 }),
  fieldId: fc.integer({ min: 1, max: 6 }),
  keep: fc.constantFrom('values' as const, 'fingerprint' as const, 'off' as const),
})
const rule = fc.record({
  typeId: fc.integer({ min: 1, max: 4 }),
  reason: fc.constantFrom('never' as const, 'asked' as const, 'required' as const),
  newColumns: fc.constantFrom('track' as const, 'wait' as const),
})
const edits = fc.array(fc.oneof({ weight: 4, arbitrary: edit }, rule), { maxLength: 30 })

describe('tracking plan', () => {
  it('the last edit of a field wins', () => {
    fc.assert(
      fc.property(edits, (list) => {
        const plan = withEdits(emptyPlan, list)
        const last = new Map<string, FieldEdit>()
        for (const e of list.filter(isFieldEdit)) last.set(`${e.typeId}/${e.fieldId}`, e)
        for (const e of last.values()) expect(keepOf(plan, e.typeId, e.fieldId)).toBe(e.keep)
      }),
    )
  })

  it('the edits between two plans make the one of the other, both ways', () => {
    fc.assert(
      fc.property(edits, edits, (a, b) => {
        const from = withEdits(emptyPlan, a)
        const to = withEdits(emptyPlan, b)
        expect(withEdits(from, editsBetween(from, to))).toEqual(to)
        expect(withEdits(to, editsBetween(to, from))).toEqual(from)
        for (const { typeId, fieldId, from: was, to: is } of comparePlans(from, to)) {
          expect([was, is]).toEqual([keepOf(from, typeId, fieldId), keepOf(to, typeId, fieldId)])
        }
        expect(editsBetween(from, from)).toEqual([])
      }),
    )
  })

  it('rules stay through edits of fields, and go with the last field', () => {
    const ruled = withEdits(emptyPlan, [{ typeId: 1, fieldId: 2, keep: 'values' }, { typeId: 1, reason: 'required' }]) // prettier-ignore
    expect(rulesOf(withEdits(ruled, [{ typeId: 1, fieldId: 3, keep: 'values' }]), 1).reason).toBe('required')
    expect(withEdits(ruled, [{ typeId: 1, fieldId: 2, keep: 'off' }])).toEqual(emptyPlan)
  })

  it('a type whose last field goes off disappears', () => {
    const plan = withEdits(emptyPlan, [{ typeId: 1, fieldId: 2, keep: 'values' }])
    expect(withEdits(plan, [{ typeId: 1, fieldId: 2, keep: 'off' }])).toEqual(emptyPlan)
  })

  it.each([
    [0, 0, 'none'],
    [0, 3, 'none'],
    [2, 3, 'some'],
    [3, 3, 'all'],
  ])('%i of %i is %s', (on, of, state) => expect(threeState(on, of)).toBe(state))
})
