import Big from 'big.js'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { fields, instant, last, worlds, type World } from '../state/state.arbitrary.ts'
import { segmentAt, timelineOf } from '../state/timeline.ts'
import { compareInstants } from '../state/trail.ts'
import { figureAt, figureMoves, sumOf } from './over-time.ts'
import { durationsOf, passagesOf, staysOf, stepsOf } from './stays.ts'

/** What "a" and "b" stand for: a number of two digits after the point, and one with many. */
const numbers: Record<string, string> = { a: '120.55', b: '-3.0000000000000000001' }
const asNumbers = ({ trail, truth }: World) => {
  const meant = (value: string | null) => (value === null ? null : numbers[value]!)
  return {
    truth: truth.map((row) => row && Object.fromEntries(fields.map((field) => [field, meant(row[field] ?? null)]))),
    trail: {
      ...trail,
      saves: trail.saves.map((save) => ({
        ...save,
        changes: save.changes.map((one) => ({ ...one, before: meant(one.before), after: meant(one.after) })),
      })),
      found: trail.found.map((one) => ({ ...one, value: meant(one.value) })),
    },
  }
}

describe('a figure over time', () => {
  it('is the sum of what each record held, and its moves add up to its difference', () => {
    fc.assert(
      fc.property(
        fc.array(worlds, { minLength: 1, maxLength: 6 }),
        fc.uniqueArray(fc.integer({ min: 0, max: last }), { minLength: 2, maxLength: 8 }),
        (drawn, seconds) => {
          const all = drawn.map(asNumbers)
          const lives = all.map(({ trail }) => timelineOf(trail, 1))
          const at = [...seconds].sort((a, b) => a - b)
          // Half a second after: what happened at a second is in it.
          const edges = at.map((second) => instant(second).replace('Z', '.5Z'))
          const points = figureAt(lives, edges)
          for (const [n, second] of at.entries()) {
            let sum = new Big(0)
            let [known, unknown] = [0, 0]
            for (const [record, { truth }] of all.entries()) {
              const { holding } = segmentAt(lives[record]!, instant(second))!
              if (holding.state === 'unknown') unknown++
              // What really was, wherever it is said to be known.
              else if (truth[second]) {
                known++
                sum = sum.plus(truth[second]![1] ?? 0)
              }
            }
            const point = points[n]!
            expect([point.numbers + point.without, point.unknown]).toEqual([known, unknown])
            if (point.total !== null) expect(new Big(point.total).eq(sum)).toBe(true)
            else expect([known, unknown > 0]).toEqual([0, true])
          }
          const moves = figureMoves(lives, edges[0]!, edges.at(-1)!)
          const between = new Big(points.at(-1)!.total ?? 0).minus(points[0]!.total ?? 0)
          expect(new Big(sumOf(moves.map(({ difference }) => difference))).eq(between)).toBe(true)
          for (const { at: when } of moves) expect(compareInstants(when, edges[0]!)).toBeGreaterThan(0)
        },
      ),
      { numRuns: 300 },
    )
  })
})

describe('time in value', () => {
  it('is what really passed, wherever beginning and end are known', () => {
    let known = 0
    fc.assert(
      fc.property(fc.array(worlds, { minLength: 1, maxLength: 4 }), (all) => {
        const lives = all.map(({ trail }) => timelineOf(trail, 2))
        for (const { record, value, fromMs, toMs, by, endedBy } of staysOf(lives)) {
          const { truth } = all[record]!
          const held = (second: number) => truth[second]?.[2]
          if (by !== null) {
            expect(fromMs).toBe(Date.parse(instant(Number(by))))
            // Another value, or no record, the moment before.
            expect([held(Number(by)), held(Number(by) - 1) === value]).toEqual([value, false])
          }
          if (endedBy !== null) {
            expect(toMs).toBe(Date.parse(instant(Number(endedBy))))
            expect([held(Number(endedBy) - 1), held(Number(endedBy)) === value]).toEqual([value, false])
          }
          if (by !== null && endedBy !== null) {
            known++
            for (let second = Number(by); second < Number(endedBy); second++) expect(held(second)).toBe(value)
          }
        }
      }),
      { numRuns: 300 },
    )
    expect(known).toBeGreaterThan(100)
  })

  const always = [{ fieldId: 1, from: instant(0), to: null }]
  const life = (...held: (string | null | undefined)[]) =>
    timelineOf(
      {
        coverage: always,
        found: [],
        saves: held.map((value, at) => {
          const before = at === 0 ? null : (held[at - 1] ?? null)
          const action = at === 0 || held[at - 1] === undefined ? 'create' : value === undefined ? 'delete' : 'change'
          return {
            id: `s${at}`,
            at: instant((at + 1) * 10),
            action: action as 'create',
            changes: [{ fieldId: 1, before, after: value ?? null, hidden: null }],
          }
        }),
      },
      1,
    )

  it('goes from one value to another by whatever comes between, and once', () => {
    const lives = [
      life('raised', 'approved', 'raised', 'done'),
      life('raised', 'approved'),
      life('raised', undefined),
      life('approved', 'done', 'raised', 'done'),
    ]
    expect(
      passagesOf(lives, 'raised', 'done').map(({ record, fromMs, toMs, by, lostMs }) => [
        record,
        toMs === null ? null : (toMs - fromMs) / 1000,
        by,
        lostMs === null ? null : (lostMs - fromMs) / 1000,
      ]),
    ).toEqual([
      [0, 30, 's3', null],
      [1, null, null, null],
      [2, null, null, 10],
      [3, 10, 's3', null],
    ])
    expect(
      passagesOf(lives, null, 'done').map(({ record, toMs, fromMs }) => [record, toMs && (toMs - fromMs) / 1000]),
    ).toEqual([
      [0, 30],
      [1, null],
      [2, null],
      [3, 10],
    ])
    expect(stepsOf(lives)).toContainEqual({ from: 'approved', to: 'raised', many: 1, back: 1 })
    expect(stepsOf(lives)).toContainEqual({ from: 'raised', to: 'approved', many: 2, back: 0 })
  })

  it('has a median and a 90th percentile by nearest rank', () => {
    expect(durationsOf([])).toEqual({ many: 0, medianMs: null, p90Ms: null, longestMs: null })
    expect(durationsOf([5, 1, 3, 9])).toEqual({ many: 4, medianMs: 4, p90Ms: 9, longestMs: 9 })
    expect(durationsOf(Array.from({ length: 100 }, (_, n) => 100 - n))).toEqual({
      many: 100,
      medianMs: 50.5,
      p90Ms: 90,
      longestMs: 100,
    })
  })
})
