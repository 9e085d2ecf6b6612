import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { replayed, unapplied } from './replay.ts'
import { change, fields, histories, instant, last, worlds } from './state.arbitrary.ts'
import { differences, segmentAt, stateAt, timelineOf } from './timeline.ts'
import { absent, compareInstants, unknown, value, type CoverageSpell, type Trail, type TrailSave } from './trail.ts'

describe('what a record held', () => {
  it('is never said to be what it was not, in gaps, before tracking and after', () => {
    fc.assert(
      fc.property(worlds, ({ truth, trail }) => {
        for (const field of fields) {
          const timeline = timelineOf(trail, field)
          for (const [second, row] of truth.entries()) {
            const { holding } = segmentAt(timeline, instant(second))!
            if (holding.state === 'value') expect([second, row?.[field]]).toEqual([second, holding.value])
            if (holding.state === 'absent') expect([second, row]).toEqual([second, null])
          }
        }
      }),
      { numRuns: 400 },
    )
  })

  it('is known wherever a field was tracked without a break to or from something that tells of it', () => {
    fc.assert(
      fc.property(worlds, ({ trail }) => {
        for (const field of fields)
          for (const { from, to } of trail.coverage.filter((one) => one.fieldId === field)) {
            const within = (at: string) =>
              compareInstants(from, at) <= 0 && (to === null || compareInstants(at, to) < 0)
            const tells =
              trail.saves.some(
                (save) =>
                  within(save.at) && (save.action !== 'change' || save.changes.some((one) => one.fieldId === field)),
              ) || trail.found.some((one) => one.fieldId === field && within(one.at))
            if (tells)
              for (const segment of timelineOf(trail, field))
                if (segment.from !== null && within(segment.from)) expect(segment.holding.state).not.toBe('unknown')
          }
      }),
    )
  })

  it('covers all of time once, in order, each spell begun by the save that is named', () => {
    fc.assert(
      fc.property(worlds, ({ trail }) => {
        for (const field of fields) {
          const timeline = timelineOf(trail, field)
          expect(timeline[0]!.from).toBeNull()
          expect(timeline.at(-1)!.to).toBeNull()
          for (const [at, segment] of timeline.slice(1).entries()) expect(segment.from).toBe(timeline[at]!.to)
          for (const { by, from } of timeline) if (by !== null) expect(from).toBe(instant(Number(by)))
        }
      }),
    )
  })
})

const always = (fieldId: number): CoverageSpell => ({ fieldId, from: instant(0), to: null })
describe('a moment', () => {
  it('is what the timeline says of it', () => {
    fc.assert(
      fc.property(worlds, fc.integer({ min: 0, max: last }), ({ trail }, second) => {
        const state = stateAt(trail, fields, instant(second))
        for (const field of fields)
          expect(state.get(field)).toEqual(segmentAt(timelineOf(trail, field), instant(second))!.holding)
      }),
      { numRuns: 400 },
    )
  })

  const saves: TrailSave[] = [
    { id: '1', at: instant(10), action: 'create', changes: [change(1, null, 'a')] },
    { id: '2', at: instant(20), action: 'change', changes: [change(1, 'a', 'b'), change(2, null, 'x')] },
    { id: '3', at: instant(30), action: 'delete', changes: [change(1, 'b', null), change(2, 'x', null)] },
  ]
  const at = (second: number, trail: Partial<Trail> = {}) => [
    ...stateAt({ saves, coverage: [1, 2].map(always), found: [], ...trail }, [1, 2], instant(second)).values(),
  ]

  it('before, between and after saves', () => {
    expect(at(5)).toEqual([absent, absent])
    expect(at(10)).toEqual([value('a'), value(null)])
    expect(at(25)).toEqual([value('b'), value('x')])
    expect(at(30)).toEqual([absent, absent])
  })

  it('says why a value is not known', () => {
    const gap = {
      coverage: [
        { fieldId: 1, from: instant(0), to: instant(12) },
        { fieldId: 1, from: instant(18), to: null },
        always(2),
      ],
    }
    expect([at(11, gap)[0], at(14, gap)[0], at(19, gap)[0]]).toEqual([value('a'), unknown('gap'), value('a')])
    expect(at(5, { saves: [], coverage: [{ fieldId: 1, from: instant(3), to: null }] })[0]).toEqual(unknown('unseen'))
    expect(at(2, { saves: [], coverage: [{ fieldId: 1, from: instant(3), to: null }] })[0]).toEqual(
      unknown('untracked'),
    )
    const found = {
      saves: [],
      coverage: [{ fieldId: 1, from: instant(4), to: null }],
      found: [{ fieldId: 1, at: instant(8), value: 'f', hidden: null }],
    }
    expect([at(2, found)[0], at(5, found)[0], at(9, found)[0]]).toEqual([unknown('untracked'), value('f'), value('f')])
    const erased = saves.map((save) => ({
      ...save,
      changes: save.changes.map((one) => ({ ...one, before: null, after: null, hidden: 'erased' as const })),
    }))
    expect(at(25, { saves: erased })[0]).toEqual(unknown('erased'))
    const torn = [saves[0]!, { ...saves[1]!, changes: [change(1, 'other', 'b')] }]
    expect(at(15, { saves: torn })[0]).toEqual(unknown('contradicted'))
  })

  it('is compared with another', () => {
    const trail = { saves, coverage: [1, 2].map(always), found: [] }
    const [a, b] = [stateAt(trail, [1, 2], instant(10)), stateAt(trail, [1, 2], instant(20))]
    expect(differences(a, b)).toEqual([
      { fieldId: 1, a: value('a'), b: value('b'), differs: true },
      { fieldId: 2, a: value(null), b: value('x'), differs: true },
    ])
    expect(differences(a, a)).toEqual([])
    expect(differences(a, new Map([[1, unknown('gap')]]))[0]).toMatchObject({ differs: null })
  })
})

const plain = (records: ReadonlyMap<string, ReadonlyMap<number, string | null>>) =>
  Object.fromEntries(
    [...records]
      .sort()
      .map(([key, row]) => [key, Object.fromEntries([...row].filter(([, held]) => held !== null).sort())]),
  )

describe('many records', () => {
  it('as they stood are those played from the beginning, and those taken back from the present', () => {
    fc.assert(
      fc.property(histories, fc.nat(100), ({ saves, table }, share) => {
        const until = Math.floor((saves.length * share) / 100)
        // A moment lies between statements, never within one.
        if (until > 0 && until < saves.length && saves[until]!.at === saves[until - 1]!.at) return
        const then = plain(replayed(saves.slice(0, until)))
        expect(plain(replayed(saves))).toEqual(plain(table))
        expect(plain(unapplied(replayed(saves), saves.slice(until).reverse()))).toEqual(then)
      }),
    )
  })

  it('agree with what each of them held then', () => {
    fc.assert(
      fc.property(histories, fc.nat(100), ({ saves }, share) => {
        const still = saves.filter((save) => save.keyBefore === null)
        const until = Math.floor((still.length * share) / 100)
        const then = replayed(still.slice(0, until))
        for (const key of new Set(still.map((save) => save.key))) {
          const own = still.filter((save) => save.key === key)
          if (saves.some((save) => save.keyBefore !== null && (save.key === key || save.keyBefore === key))) continue
          const at = instant(until === 0 ? 0 : Number(still[until - 1]!.id))
          if (until === 0) continue
          const state = stateAt({ saves: own, coverage: [1, 2, 3].map(always), found: [] }, [1, 2, 3], at)
          for (const [field, holding] of state)
            if (own.length > 0 && own[0]!.action === 'create')
              expect(holding).toEqual(then.has(key) ? value(then.get(key)!.get(field) ?? null) : absent)
        }
      }),
    )
  })
})
