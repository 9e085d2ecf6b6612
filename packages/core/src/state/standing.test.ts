import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { histories, instant, last, worlds, fields } from './state.arbitrary.ts'
import { replayed } from './replay.ts'
import { holdingNow, stand, withFound, type StandingFound, type StandingSave, type Standings } from './standing.ts'
import { stateAt } from './timeline.ts'

const named = (save: Omit<StandingSave, 'label'>): StandingSave => ({ ...save, label: save.key })
const one = '["1"]'

/** What is told of a record's fields by what was kept of it, when all has been taken in. */
function now(records: Standings, coverage: Parameters<typeof holdingNow>[2]) {
  const standing = records.get(one)
  return fields.map((field) => standing && holdingNow(standing, field, coverage, instant(last)))
}

const shown = () => false

describe('a record as it stands', () => {
  it('is what its whole trail says of the present, whenever what was found is taken in', () => {
    fc.assert(
      fc.property(worlds, fc.array(fc.nat(40), { minLength: 3, maxLength: 3 }), ({ trail }, places) => {
        const records: Standings = new Map()
        let ofAnother = false
        const take = (found: StandingFound) => {
          const next = withFound(records.get(one), found)
          if (next === null) ofAnother = true
          else records.set(one, next)
        }
        const finds = trail.found.map(({ fieldId, at, value, hidden }, n) => ({
          place: places[n]!,
          found: { label: one, at, by: `1:${n}`, values: [{ fieldId, value, hidden }] },
        }))
        for (let n = 0; n <= trail.saves.length; n++) {
          for (const { found } of finds.filter(({ place }) => Math.min(place, trail.saves.length) === n)) take(found)
          const save = trail.saves[n]
          if (save) stand(records, [named({ ...save, key: one, keyBefore: null })], shown)
        }
        // Found of one that had been there before: it is told by the trail itself.
        if (ofAnother || records.size === 0) return
        const state = stateAt(trail, fields, instant(last))
        expect(now(records, trail.coverage)).toEqual(fields.map((field) => state.get(field)))
      }),
      { numRuns: 1500 },
    )
  })

  it('is what a table holds, through every change and exchange of keys, however the saves are cut', () => {
    fc.assert(
      fc.property(histories, fc.nat(100), ({ saves, table }, share) => {
        const cut = Math.floor((saves.length * share) / 100)
        if (cut > 0 && cut < saves.length && saves[cut]!.at === saves[cut - 1]!.at) return
        const records: Standings = new Map()
        for (const part of [saves.slice(0, cut), saves.slice(cut)])
          stand(
            records,
            part.map((save) => named(save as StandingSave)),
            shown,
          )
        const alive = [...records].filter(([, { deleted }]) => deleted === null)
        expect(new Set(alive.map(([key]) => key))).toEqual(new Set(table.keys()))
        for (const [key, standing] of alive)
          for (const field of fields)
            expect(standing.fields.get(field)?.value ?? null).toBe(table.get(key)!.get(field) ?? null)
      }),
    )
  })

  it('is what a table holds when any of it was found at any moment, and taken in before or after the saves around', () => {
    fc.assert(
      fc.property(
        histories,
        fc.array(fc.record({ at: fc.nat(100), early: fc.nat(6) }), { maxLength: 4 }),
        ({ saves, table }, looks) => {
          // What each look saw, played by another hand, and how many saves had reached the ledger when it was taken in.
          const taken = looks.flatMap(({ at, early }, n) => {
            const seen = Math.floor((saves.length * at) / 100)
            if (seen === 0 || (seen < saves.length && saves[seen]!.at === saves[seen - 1]!.at)) return []
            const rows = replayed(saves.slice(0, seen))
            return [{ n, after: Math.max(0, seen - early), at: saves[seen - 1]!.at.replace('Z', '.5Z'), rows }]
          })
          const records: Standings = new Map()
          for (let n = 0; n <= saves.length; n++) {
            // A statement is never cut.
            const inside = n > 0 && n < saves.length && saves[n]!.at === saves[n - 1]!.at
            for (const look of taken.filter(
              ({ after }) => after === n || (!inside && after === n - 1 && isCut(after)),
            )) {
              if (inside) continue
              for (const [key, row] of look.rows) {
                const values = fields.map((fieldId) => ({ fieldId, value: row.get(fieldId) ?? null, hidden: null }))
                const next = withFound(records.get(key), { label: key, at: look.at, by: `${look.n}:${key}`, values })
                if (next !== null) records.set(key, next)
              }
            }
            const save = saves[n]
            if (!save || inside) continue
            const step = saves.filter((other) => other.at === save.at)
            stand(
              records,
              step.map((one) => named(one as StandingSave)),
              shown,
            )
          }
          function isCut(after: number): boolean {
            return after > 0 && after < saves.length && saves[after]!.at === saves[after - 1]!.at
          }
          const alive = [...records].filter(([, { deleted }]) => deleted === null)
          expect(new Set(alive.map(([key]) => key))).toEqual(new Set(table.keys()))
          for (const [key, standing] of alive)
            for (const field of fields)
              expect([key, field, standing.fields.get(field)?.value ?? null]).toEqual([
                key,
                field,
                table.get(key)!.get(field) ?? null,
              ])
        },
      ),
      { numRuns: 600 },
    )
  })

  it('follows a save that was under way when somebody looked', () => {
    const records: Standings = new Map()
    const found = { label: 'x', at: instant(10), by: '1:0', values: [{ fieldId: 1, value: 'seen', hidden: null }] }
    records.set(one, withFound(undefined, found)!)
    const late = { id: '1', at: instant(9), action: 'change' as const, key: one, keyBefore: null, label: 'x' }
    const changes = [{ fieldId: 1, before: 'seen', after: 'is', hidden: null }]
    stand(records, [{ ...late, changes }], shown)
    expect(records.get(one)!.fields.get(1)!.value).toBe('seen')
    stand(records, [{ ...late, changes }], () => true)
    expect(records.get(one)!.fields.get(1)!.value).toBe('is')
    // Who had a key before is another.
    records.set('["2"]', { ...records.get(one)!, since: instant(11) })
    expect(withFound(records.get('["2"]'), found)).toBeNull()
  })
})
