import { heldFieldOf, memberWords, type Dimension, type Scope } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { reachIn } from '../ledger/reach.ts'
import { referencesIn } from '../ledger/references.ts'
import { recordNames, runNames } from '../changes/queries/names.ts'

/**
 * What members of a dimension are called, in their order.
 * @param values null for those that have none
 */
export async function namesOf(
  db: Database,
  scopes: readonly Scope[],
  dimension: Dimension,
  values: readonly (string | null)[],
  nowMs: number,
): Promise<string[]> {
  const named = await known(
    db,
    scopes,
    dimension,
    values.flatMap((value) => value ?? []),
    nowMs,
  )
  return values.map((value) => (value === null ? undefined : named.get(value)) ?? memberWords(dimension, value))
}

async function known(
  db: Database,
  scopes: readonly Scope[],
  dimension: Dimension,
  values: readonly string[],
  nowMs: number,
): Promise<ReadonlyMap<string, string>> {
  if (values.length === 0) return new Map()
  const ids = boundArray(values)
  const reach = reachIn(scopes)
  const named = (rows: { id: string | number; name: string }[]) =>
    new Map(rows.map(({ id, name }) => [String(id), name]))
  const fieldId = heldFieldOf(dimension)
  if (fieldId !== null) {
    const held = new Map(values.map((value) => [(JSON.parse(value) as [string | null])[0], value]))
    const labels = await referencesIn(
      db,
      scopes,
      [...held.keys()].map((value) => ({ fieldId, before: null, after: value })),
    )
    return new Map(labels.map(({ value, label }) => [held.get(value)!, label]))
  }
  switch (dimension) {
    case 'who':
      return named(await db('spoor.actor').whereRaw('id = any(?::int[])', [ids]).select('id', 'name'))
    case 'type':
      return named(await db('spoor.record_type').whereRaw('id = any(?::int[])', [ids]).select('id', 'plural as name'))
    case 'field':
      return named(
        await db('spoor.field as f')
          .join('spoor.record_type as t', 't.id', 'f.type_id')
          .whereRaw('f.id = any(?::int[])', [ids])
          .select('f.id', db.raw(`f.name || ' of ' || t.plural as name`)),
      )
    case 'run':
      return await runNames(db, values, reach, nowMs)
    case 'record': {
      const refs = values.map((value) => /^t(\d+):(.*)$/s.exec(value)!)
      const records = refs.map(([, typeId, key]) => ({ typeId: Number(typeId), key: key! }))
      return await recordNames(db, records, reach, nowMs)
    }
    default:
      return new Map()
  }
}
