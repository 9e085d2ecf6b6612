import Big from 'big.js'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { fields, instant, last, worlds, type World } from '../state/state.arbitrary.ts'
import { timelineOf } from '../state/timeline.ts'
import { microsOf } from '../time/micros.ts'
import { beforeAndAfter, readFigures } from './loaded.ts'
import { figureAt, figureMoves, lifeOf, spellAt } from './over-time.ts'
import { figureParts, type LifeSave } from './parts.ts'
import { durationsOf, staysFor, stepsOf } from './stays.ts'

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

/** Saves of two people and a job, in runs of a few, some of a correction. */
const savesAt = new Map(
  Array.from({ length: last + 1 }, (_, second): [string, LifeSave] => [
    String(second),
    {
      id: second,
      at: microsOf(instant(second)),
      actorId: second % 3,
      actorKind: second % 3 === 0 ? 'job' : 'person',
      runId: second % 5 === 0 ? null : 1 + Math.floor(second / 10),
      correctionId: second % 11 === 0 ? 7 : null,
    },
  ]),
)

describe('a figure over time', () => {
  it('is the sum of what each record held, and its moves add up to its difference', () => {
    fc.assert(
      fc.property(
        fc.array(worlds, { minLength: 1, maxLength: 6 }),
        fc.uniqueArray(fc.integer({ min: 0, max: last }), { minLength: 2, maxLength: 8 }),
        (drawn, seconds) => {
          const all = drawn.map(asNumbers)
          const lives = all.map(({ trail }) => lifeOf(timelineOf(trail, 1), (id) => savesAt.get(id)))
          const at = [...seconds].sort((a, b) => a - b)
          // Half a second after: what happened at a second is in it.
          const edges = at.map((second) => instant(second).replace('Z', '.5Z'))
          const points = figureAt(lives, edges)
          for (const [n, second] of at.entries()) {
            let sum = new Big(0)
            let [known, unknown] = [0, 0]
            for (const [record, { truth }] of all.entries()) {
              const { holding } = spellAt(lives[record]!, microsOf(instant(second)))!
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
          for (const { at: when } of moves.moves) expect(when).toBeGreaterThan(microsOf(edges[0]!))
          // However it is split, and however little of it is told one by one.
          for (const by of ['cause', 'who', 'kind'] as const) {
            const { parts, rest } = figureParts(moves, by, 2)
            const sum = [...parts, rest].reduce((total, { difference }) => total.plus(difference), new Big(0))
            expect(sum.eq(between)).toBe(true)
          }
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
        const lives = all.map(({ trail }) => lifeOf(timelineOf(trail, 2), (id) => savesAt.get(id)))
        for (const { record, value, fromMs, toMs, endedBy, goesOn } of staysFor(lives, { from: null, to: null })) {
          const end = endedBy?.id ?? NaN
          const { truth } = all[record]!
          const held = (second: number) => truth[second]?.[2]
          const secondOf = (ms: number) => (ms - Date.parse(instant(0))) / 1000
          if (fromMs !== null) {
            // Another value, or no record, the moment before.
            const second = secondOf(fromMs)
            expect([held(second), held(second - 1) === value]).toEqual([value, false])
          }
          if (endedBy !== null) {
            expect(toMs).toBe(Date.parse(instant(end)))
            expect([held(end - 1), held(end) === value]).toEqual([value, false])
          }
          if (goesOn) expect([held(last), endedBy]).toEqual([value, null])
          if (fromMs !== null && endedBy !== null) {
            known++
            for (let second = secondOf(fromMs); second < end; second++) expect(held(second)).toBe(value)
          }
        }
      }),
      { numRuns: 300 },
    )
    expect(known).toBeGreaterThan(100)
  })

  const always = [{ fieldId: 1, from: instant(0), to: null }]
  const life = (...held: (string | null | undefined)[]) =>
    lifeOf(
      timelineOf(
        {
          coverage: always,
          found: [],
          saves: held.map((value, at) => {
            const before = at === 0 ? null : (held[at - 1] ?? null)
            const action = at === 0 || held[at - 1] === undefined ? 'create' : value === undefined ? 'delete' : 'change'
            return {
              id: String(at),
              at: instant((at + 1) * 10),
              action: action as 'create',
              changes: [{ fieldId: 1, before, after: value ?? null, hidden: null }],
            }
          }),
        },
        1,
      ),
      (id) => ({ id: Number(id), at: 0, actorId: 1, actorKind: 'person', runId: null, correctionId: null }),
    )

  it('goes from one value to another by whatever comes between, and once', () => {
    const lives = [
      life('raised', 'approved', 'raised', 'done'),
      life('raised', 'approved'),
      life('raised', undefined),
      life('approved', 'done', 'raised', 'done'),
    ]
    const passed = (from: string | null) =>
      staysFor(lives, { from, to: 'done' }).map(({ record, fromMs, toMs, endedBy, goesOn, lost }) => [
        record,
        toMs === null ? null : (toMs - fromMs!) / 1000,
        endedBy?.id ?? null,
        goesOn ? 'goes on' : lost ? 'lost' : 'ended',
      ])
    expect(passed('raised')).toEqual([
      [0, 30, 3, 'ended'],
      [1, null, null, 'goes on'],
      [2, null, null, 'lost'],
      [3, 10, 3, 'ended'],
    ])
    expect(passed(null)).toEqual([
      [0, 30, 3, 'ended'],
      [1, null, null, 'goes on'],
      [2, null, null, 'lost'],
      [3, 10, 1, 'ended'],
    ])
    expect(stepsOf(lives)).toContainEqual({ from: 'approved', to: 'raised', many: 1, back: 1 })
    expect(stepsOf(lives)).toContainEqual({ from: 'raised', to: 'approved', many: 2, back: 0 })
  })

  it('has a median and a 90th percentile by nearest rank', () => {
    const took = (list: readonly number[]) => durationsOf(list.map((ms) => ({ fromMs: 0, toMs: ms })))
    expect(took([])).toEqual({ many: 0, medianMs: null, p90Ms: null, longestMs: null })
    expect(took([5, 1, 3, 9])).toEqual({ many: 4, medianMs: 4, p90Ms: 9, longestMs: 9 })
    expect(took(Array.from({ length: 100 }, (_, n) => 100 - n))).toEqual({
      many: 100,
      medianMs: 50.5,
      p90Ms: 90,
      longestMs: 100,
    })
    // What is not known is no time.
    expect(
      durationsOf([
        { fromMs: null, toMs: 4 },
        { fromMs: 1, toMs: null },
      ]).many,
    ).toBe(0)
  })
})

describe('figures of somebody’s own', () => {
  it('are read as they stand, or not at all', () => {
    expect(readFigures('\uFEFFday,calls\r\n2026-04-02,"12.50"\r\n2026-04-01;7\n')).toEqual([
      { day: '2026-04-01', figure: '7' },
      { day: '2026-04-02', figure: '12.50' },
    ])
    for (const [text, words] of [
      ['2026-04-01,7\n2026-02-30,8', 'Line 2 does not begin with a day'],
      ['2026-04-01,1,234.50', 'Line 1 has no plain number'],
      ['2026-04-01,many', 'Line 1 has no plain number'],
      ['2026-04-01,1\n2026-04-01,2', 'gives 2026-04-01 a second figure'],
      ['day,calls\n\n', 'holds no figures'],
    ] as const)
      expect(readFigures(text), text).toContain(words)
  })
  it('are compared over as many before a day as from it on', () => {
    const figures = ['10', '20', '30', '41', '43'].map((figure, n) => ({ day: `2026-04-0${n + 1}`, figure }))
    expect(beforeAndAfter(figures, '2026-04-04')).toEqual({ many: 2, before: '25', after: '42', difference: '17' })
    expect(beforeAndAfter(figures, '2026-04-01')).toBeNull()
  })
})
