import { counted, listed, type RevertedChange } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { maskedFields } from '../ledger/masked.ts'
import type { ChangeRow } from './change-rows.ts'

/** Changes as they would be set back on another source if they had been undone there: setting that back makes them again. */
export interface Again {
  rows: ChangeRow[]
  /** The source on which they were made. */
  from: number
  /** What of them has no place there, in words that name no value; empty where all has. */
  without: string
}

const turned: Readonly<Record<RevertedChange['action'], RevertedChange['action']>> = {
  create: 'delete',
  change: 'change',
  delete: 'create',
}
const mostNamed = 5

/**
 * The changes of some saves made again on a source of the same shape: a type is the table of the same name in the schema of the same
 * name, a field its column of the same name, a record the one with the same key.
 * @param rows in capture order, of one source, one at least
 * @throws Problem where they were made on that source, none has a place there, or there is no such source
 */
export async function madeAgain(db: Database, rows: readonly ChangeRow[], sourceId: number): Promise<Again> {
  const source = await db('spoor.source').where({ id: sourceId }).first<{ name: string } | undefined>('name')
  if (!source) throw new Problem('not-found', 'There is no such source. Nothing was drafted.')
  const from = rows[0]!.source_id
  if (from === sourceId)
    throw new Problem(
      'nothing-to-revert',
      `They were made on ${source.name} itself. Nothing was drafted; choose another source.`,
    )
  const places = await placesOn(db, rows, sourceId)
  const isKept = await keptValues(db, rows)
  const missing = new Set<string>()
  const again = rows.flatMap((row): ChangeRow[] => {
    const { name, typeId, fieldId } = places.get(row.field_id)!
    if (typeId !== null && fieldId !== null && isKept(row)) {
      const { before: after, after: before } = row
      const action = turned[row.action]
      return [{ ...row, source_id: sourceId, type_id: typeId, field_id: fieldId, before, after, action }]
    }
    missing.add(fieldId === null ? name : `${name} (masked, or no value is kept)`)
    return []
  })
  const named = [...missing].slice(0, mostNamed)
  if (missing.size > named.length) named.push(counted(missing.size - named.length, 'more field'))
  const without = named.length === 0 ? '' : ` Without ${listed(named)}, which ${source.name} does not have so.`
  if (again.length === 0)
    throw new Problem('nothing-to-revert', `None of it has a place there. Nothing was drafted.${without}`)
  return { rows: again.toReversed(), from, without }
}

interface Place {
  /** As people say it. */
  name: string
  typeId: number | null
  fieldId: number | null
}

/** By field: where another source has it. */
async function placesOn(db: Database, rows: readonly ChangeRow[], sourceId: number): Promise<Map<number, Place>> {
  const { rows: places } = await db.raw<{ rows: (Place & { id: number })[] }>(
    `select f.id, lower(f.name) || ' of ' || t.plural as name, ot.id as "typeId", o.id as "fieldId"
       from spoor.field f join spoor.record_type t on t.id = f.type_id
       left join spoor.record_type ot on ot.source_id = ? and ot.schema_name = t.schema_name and ot.table_name = t.table_name
       left join spoor.field o on o.type_id = ot.id and o.column_name = f.column_name
      where f.id = any(?::int[])`,
    [sourceId, boundArray([...new Set(rows.map((row) => row.field_id))])],
  )
  return new Map(places.map(({ id, ...place }) => [id, place]))
}

/** Whether the values of a change are kept, and may be written elsewhere, where they may not be masked. */
async function keptValues(db: Database, rows: readonly ChangeRow[]): Promise<(row: ChangeRow) => boolean> {
  const masked = await maskedFields(db)
  const { rows: hidden } = await db.raw<{ rows: { save_id: string; field_id: number }[] }>(
    `select w.save_id, w.field_id from unnest(?::bigint[], ?::timestamptz[], ?::int[]) as w(save_id, captured_at, field_id)
       join ledger.save s on s.id = w.save_id and s.captured_at = w.captured_at
       join spoor.plan_version p on p.source_id = s.source_id and p.version = s.plan_version
      where p.plan #>> array['types', s.type_id::text, 'fields', w.field_id::text, 'keep'] = 'fingerprint'`,
    [
      boundArray(rows.map((row) => row.save_id)),
      boundArray(rows.map((row) => row.captured_at)),
      boundArray(rows.map((row) => row.field_id)),
    ],
  )
  const without = new Set(hidden.map((row) => `${row.save_id}/${row.field_id}`))
  return (row) => !row.erased && !masked.has(row.field_id) && !without.has(`${row.save_id}/${row.field_id}`)
}
