import { describe, expect, it } from 'vitest'
import { activityBetween, planImpact, type TypeActivity } from './impact.ts'
import { emptyPlan, withEdits } from './model.ts'

const activity = (over: Partial<TypeActivity> = {}): TypeActivity => ({
  created: 10,
  changed: 100,
  deleted: 2,
  saves: 0,
  fieldChanges: {},
  savesLeft: null,
  ...over,
})
const on = (fieldId: number) => ({ typeId: 1, fieldId, keep: 'values' }) as const

describe('what a plan will write', () => {
  it('a type newly tracked: every row written, whole on creation and deletion', () => {
    const { now, then } = planImpact(
      emptyPlan,
      withEdits(emptyPlan, [on(1), on(2), on(3)]),
      new Map([[1, activity()]]),
      400,
    )
    expect(now).toEqual({ savesPerDay: 0, changesPerDay: 0, bytesPerDay: 0 })
    expect(then).toEqual({ savesPerDay: 112, changesPerDay: 12 * 3 + 100 * 2, bytesPerDay: (36 + 200) * 400 })
  })

  it('a field added to a tracked type: at most the rows that made no save before', () => {
    const from = withEdits(emptyPlan, [on(1)])
    const known = activity({ saves: 80, fieldChanges: { 1: 80 } })
    const { now, then } = planImpact(from, withEdits(from, [on(2)]), new Map([[1, known]]), 1)
    expect(now).toMatchObject({ savesPerDay: 80, changesPerDay: 80 })
    expect(then).toMatchObject({ savesPerDay: 112, changesPerDay: 80 + 12 + 32 })
  })

  it('a field that goes off takes its changes along, and the saves that had no other', () => {
    const from = withEdits(emptyPlan, [on(1), on(2)])
    const known = activity({ saves: 100, savesLeft: 70, fieldChanges: { 1: 60, 2: 50 } })
    const { then } = planImpact(from, withEdits(from, [{ ...on(2), keep: 'off' }]), new Map([[1, known]]), 1)
    expect(then).toMatchObject({ savesPerDay: 70, changesPerDay: 60 })
  })

  it('a type that goes off leaves nothing', () => {
    const from = withEdits(emptyPlan, [on(1)])
    const { then } = planImpact(from, emptyPlan, new Map([[1, activity({ saves: 5, fieldChanges: { 1: 5 } })]]), 1)
    expect(then).toMatchObject({ savesPerDay: 0, changesPerDay: 0 })
  })
})

describe('what a source’s counters say', () => {
  const reading = (atMs: number, created: number, changed: number) => ({ atMs, created, changed, deleted: 0 })
  it.each([
    ['nothing from one reading', [reading(0, 5, 5)], null],
    [
      'the difference',
      [reading(0, 5, 5), reading(9, 7, 50)],
      { fromMs: 0, toMs: 9, created: 2, changed: 45, deleted: 0 },
    ],
    [
      'what came after they began again',
      [reading(0, 5, 90), reading(5, 6, 10), reading(9, 6, 12)],
      { fromMs: 0, toMs: 9, created: 1, changed: 12, deleted: 0 },
    ],
  ])('%s', (_, readings, expected) => expect(activityBetween(readings)).toEqual(expected))
})
