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

describe('a record as it stands', () => {
  it('is what its whole trail says of the present, whenever what was found is taken in', () => {
    let compared = 0
    fc.assert(
      fc.property(worlds, fc.array(fc.nat(40), { minLength: 3, maxLength: 3 }), ({ trail }, places) => {
        const records: Standings = new Map()
        let open = false
        const take = (found: StandingFound) => {
          const next = withFound(records.get(one), found)
          if (next === null) open = true
          else records.set(one, next)
        }
        const finds = trail.found.map(({ fieldId, at, value, hidden }, n) => ({
          place: places[n]!,
          found: { label: one, at, by: `1:${n}`, values: [{ fieldId, value, hidden }] },
        }))
        for (let n = 0; n <= trail.saves.length; n++) {
          for (const { found } of finds.filter(({ place }) => Math.min(place, trail.saves.length) === n)) take(found)
          const save = trail.saves[n]
          if (save && stand(records, [named({ ...save, key: one, keyBefore: null })]).size > 0) open = true
        }
        // Found after all saves, it may still be of a record that was there before: what is open is told by the trail itself.
        if (open || records.size === 0) return
        compared++
        const state = stateAt(trail, fields, instant(last))
        expect(now(records, trail.coverage)).toEqual(fields.map((field) => state.get(field)))
      }),
      { numRuns: 1500 },
    )
    expect(compared).toBeGreaterThan(700)
  })

  it('is what a table holds, through every change and exchange of keys, however the saves are cut', () => {
    fc.assert(
      fc.property(histories, fc.nat(100), ({ saves, table }, share) => {
        const cut = Math.floor((saves.length * share) / 100)
        if (cut > 0 && cut < saves.length && saves[cut]!.at === saves[cut - 1]!.at) return
        const records: Standings = new Map()
        for (const part of [saves.slice(0, cut), saves.slice(cut)])
          expect(
            stand(
              records,
              part.map((save) => named(save as StandingSave)),
            ),
          ).toEqual(new Set())
        const alive = [...records].filter(([, { deleted }]) => deleted === null)
        expect(new Set(alive.map(([key]) => key))).toEqual(new Set(table.keys()))
        for (const [key, standing] of alive)
          for (const field of fields)
            expect(standing.fields.get(field)?.value ?? null).toBe(table.get(key)!.get(field) ?? null)
        expect(new Set(replayed(saves).keys())).toEqual(new Set(table.keys()))
      }),
    )
  })

  it('says that it cannot tell where a save comes after what was found later', () => {
    const records: Standings = new Map()
    const found = { label: 'x', at: instant(10), by: '1:0', values: [{ fieldId: 1, value: 'seen', hidden: null }] }
    records.set(one, withFound(undefined, found)!)
    const late = { id: '1', at: instant(9), action: 'change' as const, key: one, keyBefore: null, label: 'x' }
    const changes = [{ fieldId: 1, before: 'was', after: 'is', hidden: null }]
    expect(stand(records, [{ ...late, changes }])).toEqual(new Set([one]))
    // Nor where it comes to a key under which it was found before its move was known.
    const move = { ...late, key: '["3"]', keyBefore: '["9"]', changes: [] }
    records.set('["3"]', withFound(undefined, found)!)
    expect(stand(records, [move])).toEqual(new Set(['["3"]']))
    // And who had a key before is another.
    records.set('["2"]', { ...records.get(one)!, since: instant(11) })
    expect(withFound(records.get('["2"]'), found)).toBeNull()
  })
})
