import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { comparePlans, emptyPlan, keepOf, threeState, withEdits, type PlanEdit } from './model.ts'

const edit = fc.record({
  typeId: fc.integer({ min: 1, max: 4 }),
  fieldId: fc.integer({ min: 1, max: 6 }),
  keep: fc.constantFrom('values' as const, 'fingerprint' as const, 'off' as const),
})
const edits = fc.array(edit, { maxLength: 30 })

describe('tracking plan', () => {
  it('the last edit of a field wins', () => {
    fc.assert(
      fc.property(edits, (list) => {
        const plan = withEdits(emptyPlan, list)
        const last = new Map<string, PlanEdit>()
        for (const e of list) last.set(`${e.typeId}/${e.fieldId}`, e)
        for (const e of last.values()) expect(keepOf(plan, e.typeId, e.fieldId)).toBe(e.keep)
      }),
    )
  })

  it('applying the differences gives the other plan, and their inverse gives the first back', () => {
    fc.assert(
      fc.property(edits, edits, (a, b) => {
        const from = withEdits(emptyPlan, a)
        const to = withEdits(emptyPlan, b)
        const there = comparePlans(from, to)
        expect(
          comparePlans(
            withEdits(
              from,
              there.map((d) => ({ ...d, keep: d.to })),
            ),
            to,
          ),
        ).toEqual([])
        expect(
          comparePlans(
            withEdits(
              to,
              there.map((d) => ({ ...d, keep: d.from })),
            ),
            from,
          ),
        ).toEqual([])
      }),
    )
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
