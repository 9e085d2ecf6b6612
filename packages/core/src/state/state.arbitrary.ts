import fc from 'fast-check'
import type { KeyedSave } from './replay.ts'
import { compareInstants, type CoverageSpell, type FoundValue, type Trail, type TrailSave } from './trail.ts'

export const fields = [1, 2, 3]
export const instant = (second: number) =>
  new Date(Date.UTC(2026, 0, 1, 0, 0, second)).toISOString().replace('.000', '')
export const last = 200

export type Row = Record<number, string | null>
/** What really happened to one record, second by second: null while it is not there. */
export interface World {
  truth: (Row | null)[]
  trail: Trail
}

/** A business that writes a record, and a capture that is on for some fields in some spells; what is off goes unseen. */
export const worlds: fc.Arbitrary<World> = fc
  .record({
    spells: fc.array(
      fc.record({
        field: fc.constantFrom(...fields),
        from: fc.integer({ min: 1, max: last }),
        length: fc.integer({ min: 1, max: 120 }),
        open: fc.boolean(),
      }),
      { minLength: 1, maxLength: 7 },
    ),
    begins: fc.boolean(),
    deeds: fc.array(
      fc.record({
        at: fc.integer({ min: 1, max: last - 1 }),
        act: fc.constantFrom('write', 'write', 'write', 'write', 'delete', 'create'),
        values: fc.array(fc.constantFrom('a', 'b', null), { minLength: 3, maxLength: 3 }),
      }),
      { maxLength: 25 },
    ),
    finds: fc.array(fc.record({ at: fc.integer({ min: 1, max: last }), field: fc.constantFrom(...fields) }), {
      maxLength: 3,
    }),
  })
  .map(({ spells, begins, deeds, finds }) => {
    const coverage: CoverageSpell[] = []
    for (const field of fields) {
      let free = 0
      for (const spell of spells.filter((one) => one.field === field).sort((a, b) => a.from - b.from)) {
        if (spell.from <= free) continue
        const to = spell.open ? null : spell.from + spell.length
        coverage.push({ fieldId: field, from: instant(spell.from), to: to === null ? null : instant(to) })
        free = to ?? Infinity
      }
    }
    const isTracked = (field: number, at: string) =>
      coverage.some(
        (one) =>
          one.fieldId === field &&
          compareInstants(one.from, at) <= 0 &&
          (one.to === null || compareInstants(at, one.to) < 0),
      )
    const truth: (Row | null)[] = []
    const saves: TrailSave[] = []
    let row: Row | null = begins ? { 1: 'a', 2: null, 3: 'b' } : null
    const bySecond = new Map(deeds.map((deed) => [deed.at, deed]))
    for (let second = 0; second <= last; second++) {
      const deed = bySecond.get(second)
      const at = instant(second)
      const tracked = fields.filter((field) => isTracked(field, at))
      const before: Row | null = row
      if (deed?.act === 'delete') row = null
      else if (deed?.act === 'create' && row === null)
        row = Object.fromEntries(fields.map((field, n) => [field, deed.values[n]!]))
      else if (deed?.act === 'write' && row !== null)
        row = Object.fromEntries(fields.map((field, n) => [field, deed.values[n]!]))
      truth.push(row)
      const changes = tracked.flatMap((fieldId) => {
        const [was, is] = [before?.[fieldId] ?? null, row?.[fieldId] ?? null]
        return was === is ? [] : [{ fieldId, before: was, after: is, hidden: null }]
      })
      const action = before === null ? 'create' : row === null ? 'delete' : 'change'
      if (before !== row && tracked.length > 0 && (action !== 'change' || changes.length > 0))
        saves.push({ id: String(second), at, action, changes })
    }
    const found: FoundValue[] = finds.flatMap(({ at, field }) => {
      const there = truth[at]
      return there && isTracked(field, instant(at))
        ? [{ fieldId: field, at: instant(at), value: there[field]!, hidden: null }]
        : []
    })
    return { truth, trail: { saves, coverage, found } }
  })

export const change = (fieldId: number, before: string | null, after: string | null) => ({
  fieldId,
  before,
  after,
  hidden: null,
})

/** A table and everything that is done to it, keys included. */
export const histories = fc
  .array(
    fc.record({
      act: fc.constantFrom('create', 'change', 'delete', 'move', 'exchange'),
      key: fc.integer({ min: 1, max: 6 }),
      to: fc.integer({ min: 1, max: 6 }),
      field: fc.integer({ min: 1, max: 3 }),
      value: fc.constantFrom('a', 'b', 'c', null),
    }),
    { maxLength: 80 },
  )
  .map((deeds) => {
    const table = new Map<string, Map<number, string | null>>()
    const saves: KeyedSave[] = []
    for (const { act, key: number, to, field, value: next } of deeds) {
      const key = String(number)
      const row = table.get(key)
      const save = { id: String(saves.length), at: instant(saves.length), key, keyBefore: null }
      if (act === 'create' && !row) {
        table.set(key, new Map([[field, next]]))
        saves.push({ ...save, action: 'create', changes: next === null ? [] : [change(field, null, next)] })
      } else if (act === 'delete' && row) {
        saves.push({
          ...save,
          action: 'delete',
          changes: [...row].flatMap(([one, held]) => (held === null ? [] : [change(one, held, null)])),
        })
        table.delete(key)
      } else if (act === 'exchange' && row && table.has(String(to)) && key !== String(to)) {
        const other = table.get(String(to))!
        table.set(key, other).set(String(to), row)
        const moves = [
          { ...save, key: String(to), keyBefore: key },
          { ...save, id: String(saves.length + 1), keyBefore: String(to) },
        ]
        saves.push(...moves.map((move) => ({ ...move, action: 'change' as const, changes: [] })))
      } else if (
        row &&
        act !== 'create' &&
        act !== 'exchange' &&
        (act === 'change' || (!table.has(String(to)) && act === 'move'))
      ) {
        const was = row.get(field) ?? null
        if (was === next && act === 'change') continue
        row.set(field, next)
        const moved = act === 'move'
        if (moved) {
          table.delete(key)
          table.set(String(to), row)
        }
        saves.push({
          ...save,
          key: moved ? String(to) : key,
          keyBefore: moved ? key : null,
          action: 'change',
          changes: was === next ? [] : [change(field, was, next)],
        })
      }
    }
    return { saves, table }
  })
