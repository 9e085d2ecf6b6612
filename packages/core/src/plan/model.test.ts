import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import {
  comparePlans,
  editsBetween,
  emptyPlan,
  isFieldEdit,
  isGuardEdit,
  isPlanRuleEdit,
  keepOf,
  reasonOf,
  rulesOf,
  threeState,
  withEdits,
  type FieldEdit,
  type PlanEdit,
  type TrackingPlan,
} from './model.ts'
import { guardSentence, guardTrouble, sameGuard, type Guard } from '../guard/rule.ts'
import { planFromFile, planToFile, type PlanRegister } from './file.ts'
import { planLines } from './words.ts'
import { lockHolds, lockWords, planTroubles, troubleWords } from './troubles.ts'

const optional = <T>(of: fc.Arbitrary<T>) => fc.option(of, { nil: undefined })
const edit: fc.Arbitrary<FieldEdit> = fc.record({
  typeId: fc.integer({ min: 1, max: 4 }),
  fieldId: fc.integer({ min: 1, max: 6 }),
  keep: optional(fc.constantFrom('values' as const, 'fingerprint' as const, 'off' as const)),
  masked: optional(fc.boolean()),
  sensitive: optional(fc.boolean()),
  reason: optional(fc.constantFrom('never' as const, 'asked' as const, 'required' as const)),
  derivedFrom: optional(fc.array(fc.integer({ min: 1, max: 6 }), { maxLength: 3 })),
  lock: optional(fc.constantFrom(null, { until: null }, { until: '2027-03-31' })),
})
const rule = fc.record({
  typeId: fc.integer({ min: 1, max: 4 }),
  reason: fc.constantFrom('never' as const, 'asked' as const, 'required' as const),
  newColumns: fc.constantFrom('track' as const, 'wait' as const),
})
const guard: fc.Arbitrary<Guard> = fc.record({
  name: fc.constantFrom('one', 'another'),
  words: fc.constant('not here'),
  mode: fc.constantFrom('refuse' as const, 'warn' as const),
  acts: fc.constant(['change' as const]),
  fieldId: fc.constantFrom(null, 1, 2),
  test: fc.constantFrom({ test: 'any' as const }, { test: 'to' as const, values: [null, 'a'] }),
  held: fc.constantFrom(null, { fieldId: 3, values: ['x'], other: false }),
  by: fc.constantFrom(null, { actors: ['Ada'], kinds: [], channels: [], logins: [], others: true }),
  times: fc.constantFrom(null, { days: [1, 7], from: '08:00', to: '18:00', outside: true }),
  withoutReason: fc.boolean(),
  above: fc.constantFrom(null, 5),
  zone: fc.constant('UTC'),
})
const guardEdit = fc.record({
  typeId: fc.integer({ min: 1, max: 4 }),
  guardId: fc.integer({ min: 1, max: 5 }),
  guard: fc.option(guard),
})
const edits: fc.Arbitrary<PlanEdit[]> = fc.array(
  fc.oneof(
    { weight: 6, arbitrary: edit },
    { weight: 2, arbitrary: guardEdit },
    { weight: 2, arbitrary: rule },
    fc.record(
      { secondPerson: fc.boolean(), correctionsAbove: fc.option(fc.nat(50), { nil: null }) },
      { requiredKeys: ['secondPerson'] },
    ),
  ),
  { maxLength: 30 },
)
const nameOf = (id: number) => `f${id}`

describe('tracking plan', () => {
  it('the last thing said of how a field is kept wins', () => {
    fc.assert(
      fc.property(edits, (list) => {
        const plan = withEdits(emptyPlan, list)
        const said = list.filter(isFieldEdit).filter((one) => one.keep !== undefined)
        const last = new Map(said.map((one) => [`${one.typeId}/${one.fieldId}`, one]))
        for (const { typeId, fieldId, keep } of last.values()) expect(keepOf(plan, typeId, fieldId)).toBe(keep)
      }),
    )
  })

  it('the edits between two plans make one of the other', () => {
    fc.assert(
      fc.property(edits, edits, (a, b) => {
        const from = withEdits(emptyPlan, a)
        const to = withEdits(from, b)
        expect(withEdits(from, editsBetween(from, to))).toEqual(to)
        expect(withEdits(to, editsBetween(to, from))).toEqual(from)
        expect(editsBetween(from, from)).toEqual([])
        expect(planLines(from, to, nameOf).length).toBe(editsBetween(from, to).length)
        expect(planLines(from, to, nameOf).every((line) => line.words.length > 0)).toBe(true)
      }),
    )
  })

  it('a type without fields is not there, nor are its rules', () => {
    const plan = withEdits(emptyPlan, [
      { typeId: 1, reason: 'required' },
      { typeId: 1, fieldId: 1, keep: 'values' },
      { typeId: 1, fieldId: 1, keep: 'off' },
    ])
    expect(plan).toEqual(emptyPlan)
    expect(rulesOf(plan, 1)).toEqual({
      reason: 'never',
      newColumns: 'wait',
      onFailure: 'refuse',
      asFound: 'take',
    })
  })

  it('what is said of a field goes when it goes off, and is not there when it comes back', () => {
    const on: PlanEdit = { typeId: 1, fieldId: 1, keep: 'values', masked: true, sensitive: true, reason: 'asked' }
    const again = withEdits(emptyPlan, [
      on,
      { typeId: 1, fieldId: 1, keep: 'off' },
      { typeId: 1, fieldId: 1, keep: 'values' },
    ])
    expect(again.types['1']!.fields['1']).toEqual({ keep: 'values' })
  })

  it('compares only how fields are kept', () => {
    const from = withEdits(emptyPlan, [{ typeId: 1, fieldId: 1, keep: 'values' }])
    const to = withEdits(from, [
      { typeId: 1, fieldId: 1, masked: true },
      { typeId: 1, fieldId: 2, keep: 'fingerprint' },
    ])
    expect(comparePlans(from, to)).toEqual([{ typeId: 1, fieldId: 2, from: 'off', to: 'fingerprint' }])
  })

  it.each([
    ['never', 'never', 'never'],
    ['asked', 'never', 'asked'],
    ['never', 'required', 'required'],
    ['required', 'asked', 'required'],
  ] as const)('the stricter of the type’s rule %s and the field’s %s holds: %s', (type, field, expected) => {
    const plan = withEdits(emptyPlan, [
      { typeId: 1, fieldId: 1, keep: 'values', reason: field },
      { typeId: 1, reason: type },
    ])
    expect(reasonOf(plan, 1, 1)).toBe(expected)
  })

  it.each([
    [0, 5, 'none'],
    [2, 5, 'some'],
    [5, 5, 'all'],
    [0, 0, 'none'],
  ] as const)('%i of %i is %s', (on, of, state) => expect(threeState(on, of)).toBe(state))

  it('knows its edits apart', () => {
    expect(isPlanRuleEdit({ secondPerson: true })).toBe(true)
    expect(isFieldEdit({ typeId: 1, reason: 'asked' })).toBe(false)
  })
})

describe('a guard', () => {
  const base: Guard = {
    name: 'g',
    words: 'no',
    mode: 'refuse',
    acts: ['change'],
    fieldId: 7,
    test: { test: 'any' },
    held: null,
    by: null,
    times: null,
    withoutReason: false,
    above: null,
    zone: 'Europe/London',
  }
  const name = (id: number) => `f${id} of lines`

  it.each<[Partial<Guard>, string]>([
    [{}, 'Refuse changes of f7 of lines'],
    [
      { mode: 'warn', test: { test: 'falls', by: '10', share: true } },
      'Warn of changes of f7 of lines down by more than 10 %',
    ],
    [
      { held: { fieldId: 8, values: ['approved', null], other: false }, withoutReason: true },
      'Refuse changes of f7 of lines where f8 of lines is “approved” or nothing, without a reason',
    ],
    [
      { test: { test: 'to', values: ['salt and pepper', 'oil'] } },
      'Refuse changes of f7 of lines to “salt and pepper” or “oil”',
    ],
    [
      { held: { fieldId: 8, values: [null], other: true } },
      'Refuse changes of f7 of lines where f8 of lines holds something',
    ],
    [
      {
        fieldId: null,
        acts: ['delete', 'create'],
        above: 20,
        by: { actors: ['Ada', 'Ben'], kinds: [], channels: ['API'], logins: [], others: true },
        times: { days: [6, 7], from: '00:00', to: '00:00', outside: false },
      },
      'Refuse creation and deletion of lines, more than 20 records at once, by anybody but Ada or Ben, by way of API, on Saturdays and Sundays (Europe/London)',
    ],
  ])('%# is said in a sentence', (more, words) =>
    expect(guardSentence({ ...base, ...more }, 'lines', name)).toBe(words),
  )

  it.each<[Partial<Guard>, RegExp | null]>([
    [{}, null],
    [{ acts: [] }, /no act/],
    [{ acts: ['change', 'delete'] }, /a deletion writes none/],
    [{ fieldId: null, test: { test: 'emptied' } }, /names no field/],
    [{ test: { test: 'shrinks' } }, /cannot answer/],
    [{ test: { test: 'rises', by: 'much', share: false } }, /names no number/],
    [{ test: { test: 'outside', least: null, most: null } }, /neither the least nor the most/],
    [{ by: { actors: [], kinds: [], channels: [], logins: [], others: false } }, /names nobody/],
    [{ fieldId: null, acts: ['create', 'change', 'delete'] }, /every save/],
    [{ fieldId: null, acts: ['create', 'change', 'delete'], withoutReason: true }, null],
  ])('%# is told what contradicts itself in it', (more, words) => {
    const trouble = guardTrouble({ ...base, ...more }, () => 'numeric', name)
    if (words === null) expect(trouble).toBeNull()
    else expect(trouble).toMatch(words)
  })

  it('is the same however its parts are ordered', () => {
    fc.assert(
      fc.property(guard, (one) => {
        const turned = Object.fromEntries(Object.entries(one).reverse()) as unknown as Guard
        expect(sameGuard(one, turned)).toBe(true)
        expect(sameGuard(one, { ...one, words: 'other' })).toBe(false)
      }),
    )
  })
})

describe('troubles', () => {
  const today = '2026-11-25'
  const plan = (...list: PlanEdit[]): TrackingPlan => withEdits(emptyPlan, list)
  const on = { typeId: 1, fieldId: 1, keep: 'values' } as const
  const guarding: Guard = {
    ...{ name: 'g', words: 'no', mode: 'refuse', acts: ['change'], fieldId: 1, test: { test: 'any' }, held: null },
    ...{ by: null, times: null, withoutReason: false, above: null, zone: 'UTC' },
  }
  const troubles = (from: TrackingPlan, list: PlanEdit[]) =>
    planTroubles(from, withEdits(from, list), list, today).map((one) => one.trouble)
  const locked = (until: string | null) => plan({ ...on, lock: { until } })

  it.each<[string, TrackingPlan, PlanEdit[], string[]]>([
    ['switching a locked field off', locked(null), [{ ...on, keep: 'off' }], ['locked']],
    ['keeping a locked field with less', locked('2027-01-01'), [{ ...on, keep: 'fingerprint' }], ['locked']],
    ['taking a lock off', locked(null), [{ typeId: 1, fieldId: 1, lock: null }], ['locked']],
    ['shortening a lock', locked('2027-01-01'), [{ typeId: 1, fieldId: 1, lock: { until: '2026-12-01' } }], ['locked']],
    [
      'a lock for good made to end',
      locked(null),
      [{ typeId: 1, fieldId: 1, lock: { until: '2099-01-01' } }],
      ['locked'],
    ],
    ['lengthening a lock', locked('2027-01-01'), [{ typeId: 1, fieldId: 1, lock: { until: null } }], []],
    ['a lock that has run out', locked('2026-11-24'), [{ ...on, keep: 'off' }], []],
    ['a lock on its last day', locked('2026-11-25'), [{ ...on, keep: 'off' }], ['locked']],
    ['masking a locked field', locked(null), [{ typeId: 1, fieldId: 1, masked: true }], []],
    [
      'a lock that ends before today',
      plan(on),
      [{ typeId: 1, fieldId: 1, lock: { until: '2026-11-24' } }],
      ['lock-in-the-past'],
    ],
    [
      'saying something of an untracked field',
      emptyPlan,
      [{ typeId: 1, fieldId: 1, masked: true }],
      ['says-of-untracked'],
    ],
    ['masking a fingerprint', emptyPlan, [{ ...on, keep: 'fingerprint', masked: true }], ['masks-a-fingerprint']],
    ['following from an untracked field', emptyPlan, [{ ...on, derivedFrom: [2] }], ['derived-from-untracked']],
    ['following from itself', emptyPlan, [{ ...on, derivedFrom: [1] }], ['derived-in-a-circle']],
    [
      'following in a circle',
      emptyPlan,
      [
        { ...on, derivedFrom: [2] },
        { typeId: 1, fieldId: 2, keep: 'values', derivedFrom: [1] },
      ],
      ['derived-in-a-circle', 'derived-in-a-circle'],
    ],
    [
      'guarding what is not tracked',
      emptyPlan,
      [{ typeId: 1, guardId: 1, guard: { ...guarding, fieldId: null } }],
      ['guards-untracked'],
    ],
    [
      'asking a guard of what goes off',
      plan(on, { typeId: 1, fieldId: 2, keep: 'values' }, { typeId: 1, guardId: 1, guard: guarding }),
      [{ ...on, keep: 'off' }],
      ['guard-asks-untracked'],
    ],
    [
      'asking a value of a fingerprint',
      plan(on),
      [
        { ...on, keep: 'fingerprint' },
        { typeId: 1, guardId: 1, guard: { ...guarding, test: { test: 'emptied' } } },
      ],
      ['guard-asks-fingerprint'],
    ],
    [
      'guarding what is let through',
      plan(on, { typeId: 1, guardId: 1, guard: guarding }),
      [{ typeId: 1, onFailure: 'pass' }],
      ['guards-what-passes'],
    ],
    [
      'following from another',
      emptyPlan,
      [
        { ...on, derivedFrom: [2] },
        { typeId: 1, fieldId: 2, keep: 'values' },
      ],
      [],
    ],
  ])('%s', (_, from, list, expected) => expect(troubles(from, list)).toEqual(expected))

  it('each has words that name the field', () => {
    const all = planTroubles(locked(null), emptyPlan, [{ typeId: 2, fieldId: 9, sensitive: true }], today)
    expect(all.map((one) => troubleWords(one, nameOf))).toEqual([
      'f1 is locked for good: it can be neither switched off nor kept with less, and its lock can only be made longer.',
      'f9 is not tracked, so nothing more can be said of it.',
    ])
    expect(lockWords({ until: '2027-03-31' })).toBe('keep until 31 March 2027')
    expect(lockHolds(undefined, today)).toBe(false)
  })
})

describe('plan file', () => {
  const register: PlanRegister = {
    types: [1, 2, 3, 4].map((id) => ({
      id,
      schema: 'public',
      table: `table "${id}"`,
      fields: [1, 2, 3, 4, 5, 6].map((fieldId) => ({ id: fieldId + id * 10, column: `Column ${fieldId}` })),
    })),
  }
  const ofType = ({ fieldId, held, ...rest }: Guard, typeId: number): Guard => ({
    ...rest,
    fieldId: fieldId === null ? null : fieldId + typeId * 10,
    held: held && { ...held, fieldId: held.fieldId + typeId * 10 },
  })
  const shifted = edits.map((list) =>
    list.map((one) =>
      isFieldEdit(one)
        ? {
            ...one,
            fieldId: one.fieldId + one.typeId * 10,
            derivedFrom: one.derivedFrom?.map((id) => id + one.typeId * 10),
          }
        : isGuardEdit(one) && one.guard
          ? { ...one, guard: ofType(one.guard, one.typeId) }
          : one,
    ),
  )

  it('comes back as the plan it was written from', () => {
    fc.assert(
      fc.property(shifted, (list) => {
        const plan = withEdits(emptyPlan, list)
        const file = JSON.parse(JSON.stringify(planToFile(plan, register, 'source', 3)))
        expect(planFromFile(file, register)).toEqual({ plan, unknown: [] })
      }),
    )
  })

  it('names what the source does not have and leaves it out', () => {
    const plan = withEdits(emptyPlan, [
      { typeId: 1, fieldId: 11, keep: 'values' },
      { typeId: 1, fieldId: 12, keep: 'values' },
      { typeId: 2, fieldId: 21, keep: 'values' },
    ])
    const file = planToFile(plan, register, 'source', null)
    const smaller: PlanRegister = { types: [{ ...register.types[0]!, fields: [{ id: 11, column: 'Column 1' }] }] }
    const read = planFromFile(file, smaller)
    expect(read.plan).toEqual(withEdits(emptyPlan, [{ typeId: 1, fieldId: 11, keep: 'values' }]))
    expect(read.unknown).toEqual([
      { schema: 'public', table: 'table "1"', column: 'Column 2' },
      { schema: 'public', table: 'table "2"', column: null },
    ])
  })
})
