import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { matches, type ScopedChange } from '../scope/evaluate.ts'
import { actorKinds, groupsOf, withMembers, type Scope } from '../scope/model.ts'
import { anyScope } from '../scope/scope.arbitrary.ts'
import { amountText, durationText, shareOf } from './amount.ts'
import { scopeOfMember, type CellWorld } from './cell.ts'
import { memberOf, zones } from './member.arbitrary.ts'
import { standsOut, withEmpty } from './pivot.ts'
import { dimensions, firstWork, parseWork, workText, type Work } from './work.ts'

const unitOf = (actorId: number) =>
  [null, 'Lettings', 'Income, arrears & “x”%'][actorId % 3 === 0 ? 0 : 1 + (actorId % 2)]!

/** Six actors of six kinds, six types of two areas, a field or two of each. */
const worldIn = (zone: string, nowMs: number): CellWorld => ({
  types: [1, 2, 3, 4, 5, 6].map((id) => ({ id, area: id % 2 ? 'odd' : 'even' })),
  fields: [1, 2, 3, 4, 5, 6].map((id) => ({ id, typeId: ((id * 5) % 6) + 1 })),
  actors: [1, 2, 3, 4, 5, 6].map((id) => ({ id, kind: actorKinds[id % 3]!, unit: unitOf(id) })),
  zone,
  nowMs,
})
const nowMs = Date.parse('2026-05-20T11:00:00Z')

const anyChange: fc.Arbitrary<ScopedChange> = fc
  .record({
    actorId: fc.integer({ min: 1, max: 6 }),
    fieldId: fc.integer({ min: 1, max: 6 }),
    key: fc.constantFrom('["1"]', '["2"]', '["a,b","!:é"]'),
    minutes: fc.integer({ min: 0, max: 90_000 }),
    action: fc.constantFrom('create' as const, 'change' as const, 'delete' as const),
    channel: fc.constantFrom('screen', 'API', 'odd, %é'),
    runId: fc.integer({ min: 1, max: 6 }),
    before: fc.constantFrom(null, '10', '12.50', '0', 'a', ''),
    after: fc.constantFrom(null, '10', '-3', '=x%_', 'a', ''),
    reason: fc.constantFrom(null, 'a phone call', 'nothing of the kind'),
  })
  .map(({ minutes, ...change }) => ({
    ...change,
    actorKind: actorKinds[change.actorId % 3]!,
    typeId: ((change.fieldId * 5) % 6) + 1,
    parent: null,
    atMs: Date.parse('2026-03-01T00:00:00Z') + minutes * 60_000 + 17,
    restored: false,
    effectiveOn: null,
    transactionOf: [],
    isNumber: true,
    states: [],
    stories: [],
    cases: [],
  }))

/** Of two parts at most, so that something is left in it. */
const shortScope = fc.tuple(anyScope, fc.nat(8), fc.nat(8)).map(([scope, ...kept]): Scope => {
  const parts = Object.entries(scope).filter(
    ([name, part]) => name !== 'state' && !('effective' in part && part.effective),
  )
  return Object.fromEntries(parts.filter((_, at) => kept.includes(at)))
})

describe('a member of a pivot', () => {
  it('is said as a scope that means just the changes that stand at it', () => {
    let said = 0
    let unsaid = 0
    fc.assert(
      fc.property(
        shortScope,
        fc.array(anyChange, { minLength: 40, maxLength: 40 }),
        fc.constantFrom(...dimensions),
        fc.constantFrom(...zones),
        (scope, changes, dimension, zone) => {
          const means = (meant: Scope) => {
            const units = meant.who
              ? groupsOf(meant.who).flatMap((one) => (one.group === 'unit' ? [one.unit] : []))
              : []
            const members = [1, 2, 3, 4, 5, 6].filter((id) => units.includes(unitOf(id) ?? ''))
            const known = withMembers(meant, members)
            return (change: ScopedChange) => matches(known, change, nowMs)
          }
          const own = changes.filter(means(scope))
          const standsAt = (change: ScopedChange) =>
            dimension === 'unit' ? unitOf(change.actorId) : memberOf(dimension, change, zone)
          for (const value of new Set(own.map(standsAt))) {
            const narrowed = scopeOfMember(scope, dimension, value, worldIn(zone, nowMs))
            if (narrowed === null) {
              unsaid++
              continue
            }
            said++
            const places = (meant: (change: ScopedChange) => boolean) =>
              changes.flatMap((change, at) => (meant(change) ? [at] : []))
            expect(places(means(narrowed))).toEqual(
              places((change) => own.includes(change) && standsAt(change) === value),
            )
          }
        },
      ),
      { numRuns: 250, seed: 20_261_130 },
    )
    expect(said).toBeGreaterThan(500)
    // What one sentence cannot say is the exception.
    expect(unsaid / (said + unsaid)).toBeLessThan(0.2)
  })
})

describe('empty members', () => {
  it('are the spells between those that are there', () => {
    expect(withEmpty('month', ['2025-11-01', '2026-02-01'], 100)).toEqual([
      '2025-11-01',
      '2025-12-01',
      '2026-01-01',
      '2026-02-01',
    ])
    expect(withEmpty('quarter', ['2025-10-01', '2026-04-01'], 100)).toEqual(['2025-10-01', '2026-01-01', '2026-04-01'])
    expect(withEmpty('hour', ['3'], 100)).toHaveLength(24)
    expect(withEmpty('day', ['2024-02-28', '2024-03-01'], 100)).toEqual(['2024-02-28', '2024-02-29', '2024-03-01'])
    expect(withEmpty('day', ['2020-01-01', '2026-01-01'], 100)).toEqual(['2020-01-01', '2026-01-01'])
  })
})

describe('a cell', () => {
  it('stands out where chance does not make so many', () => {
    // Five of somebody's five saves at an hour at which one in five hundred is made.
    expect(standsOut(5, 5, 200, 100_000)).toBe(true)
    expect(standsOut(2, 2, 200, 100_000)).toBe(false)
    expect(standsOut(1200, 3000, 10_000, 100_000)).toBe(true)
    expect(standsOut(400, 3000, 10_000, 100_000)).toBe(false)
    expect(standsOut(4703, 4703, 9000, 100_000)).toBe(true)
    expect(standsOut(0, 0, 0, 0)).toBe(false)
  })
})

describe('amounts', () => {
  it('are read without losing a digit, and shares of nothing are none', () => {
    expect(amountText('123456789012345678.905')).toBe('123,456,789,012,345,678.91')
    expect(amountText('-0.5', { signed: true })).toBe('−0.5')
    expect(amountText('1234', { signed: true })).toBe('+1,234')
    expect(amountText('0.00', { signed: true })).toBe('0.00')
    expect(amountText('1e3')).toBe('1,000')
    expect([shareOf('1', '3'), shareOf('0', '0')]).toEqual([33.3, null])
  })
  it('of time are read in two of its units', () => {
    const [minute, hour, day] = [60_000, 3_600_000, 86_400_000]
    const told = [400, 59_600, 12 * minute, 5 * hour + 10 * minute, 3 * hour, 3 * day + 4 * hour, 45 * day].map(
      durationText,
    )
    expect(told).toEqual(['0 s', '1 min', '12 min', '5 h 10 min', '3 h', '3 d 4 h', '45 d'])
    expect([day - 1, 59.7 * minute, 14 * day - 1].map(durationText)).toEqual(['1 d', '1 h', '14 d'])
  })
})

const anyWork: fc.Arbitrary<Work> = fc.oneof(
  fc.record({
    form: fc.constant('pivot' as const),
    rows: fc.constantFrom(...dimensions),
    columns: fc.option(fc.constantFrom(...dimensions)),
    measure: fc.constantFrom('saves' as const, 'p90' as const, 'last' as const),
    top: fc.integer({ min: 1, max: 200 }),
    order: fc.constantFrom('most' as const, 'least' as const, 'name' as const),
    empty: fc.boolean(),
    shown: fc.constantFrom('table' as const, 'heat' as const),
  }),
  fc.record({
    form: fc.constant('stays' as const),
    fieldId: fc.option(fc.integer({ min: 1, max: 9999 })),
    by: fc.constantFrom('value' as const, 'month' as const, 'field.12' as const),
    from: fc.option(fc.string({ maxLength: 20 })),
    to: fc.option(fc.constantFrom('a;b=c', '%é', 'done', '', '"', '""', 'null')),
  }),
  fc.record({
    form: fc.constant('figure' as const),
    fieldId: fc.option(fc.integer({ min: 1, max: 9999 })),
    reckoning: fc.constantFrom('total' as const, 'mean' as const),
    step: fc.constantFrom('day' as const, 'month' as const),
    by: fc.constantFrom('cause' as const, 'who' as const),
    currency: fc.option(fc.constantFrom('["EUR"]', '[null]', '["a;b\\"c"]')),
    a: fc.option(fc.constant('2026-04-01')),
    b: fc.option(fc.constant('2026-05-10')),
  }),
)

describe('the link of what is worked out', () => {
  it('gives the same back', () => {
    fc.assert(
      fc.property(anyWork, (work) => {
        expect(parseWork(workText(work))).toEqual(work)
      }),
    )
  })
  it('is not understood in part', () => {
    expect(parseWork('pivot')).toEqual(firstWork.pivot)
    for (const text of ['', 'pie', 'pivot;rows=star', 'pivot;top=0', 'pivot;top=999', 'pivot;rows=who;rows=type'])
      expect(parseWork(text)).toBeNull()
    for (const text of [
      'pivot;more=1',
      'figure;a=2026-02-31',
      'stays;by=field.x',
      'stays;to=%E0%A4%A',
      'figure;currency=EUR',
    ])
      expect(parseWork(text)).toBeNull()
  })
})
