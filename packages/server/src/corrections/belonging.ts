import { placesReferred, type Reference } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import type { Sources } from '../sources/registry.ts'
import { columns, mostChanges, tooMany, type ChangeRow } from './change-rows.ts'
import { referencesIn } from './tables.ts'

const placeOf = (row: ChangeRow) => `${row.type_id}/${row.record_key}`

/**
 * What comes back along with deleted records: the records that they refer to, where those were deleted too, and what went, or lost
 * its reference, with them in the same transaction.
 * @param deleted the deletions of records that are to come back @param rows all changes that are set back
 * @returns more of them
 */
export async function whatBelongs(
  db: Database,
  sources: Sources,
  deleted: readonly ChangeRow[],
  rows: readonly ChangeRow[],
): Promise<ChangeRow[]> {
  if (deleted.length === 0) return []
  const sourceId = deleted[0]!.source_id
  const references = await referencesIn(db, await sources.refresh(sourceId), sourceId)
  const known = new Set(rows.map((row) => row.save_id))
  const along: ChangeRow[] = []
  const take = (more: readonly ChangeRow[]) => {
    along.push(...more)
    for (const { save_id } of more) known.add(save_id)
    return more.filter(({ action }) => action === 'delete')
  }
  for (let fresh = deleted; fresh.length > 0;) {
    const below = take(await wentWith(db, references, fresh, known))
    fresh = [...below, ...take(await neededBy(db, references, [...fresh, ...below], known))]
  }
  return along
}

/** The values before, by record, of what saves changed. */
function valuesBefore(rows: readonly ChangeRow[]): Map<string, { row: ChangeRow; before: Map<number, string | null> }> {
  const records = new Map<string, { row: ChangeRow; before: Map<number, string | null> }>()
  for (const row of rows) {
    const place = `${row.save_id}/${placeOf(row)}`
    if (!records.has(place)) records.set(place, { row, before: new Map() })
    records.get(place)!.before.set(row.field_id, row.before)
  }
  return records
}

function referredBy(
  references: ReadonlyMap<number, readonly Reference[]>,
  { row, before }: { row: ChangeRow; before: ReadonlyMap<number, string | null> },
): string[] {
  const of = references.get(row.type_id) ?? []
  return placesReferred(row.record_key, of, (fieldId) => before.get(fieldId)).map(({ place }) => place)
}

/** What else the transactions that deleted some records deleted, or took the reference to them from, at any depth. */
async function wentWith(
  db: Database,
  references: ReadonlyMap<number, readonly Reference[]>,
  deleted: readonly ChangeRow[],
  known: ReadonlySet<string>,
): Promise<ChangeRow[]> {
  const { rows } = await db.raw<{ rows: ChangeRow[] }>(
    `select ${columns} from ledger.save s join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at
      where s.source_id = ? and s.transaction_id = any(?::text[]) and s.type_id = any(?::int[]) and s.action in ('delete', 'change')
        and (s.action = 'delete' or c.after is null and not c.erased) and s.id <> all(?::bigint[]) limit ${mostChanges + 1}`,
    [
      deleted[0]!.source_id,
      boundArray([...new Set(deleted.map((row) => row.transaction_id))]),
      boundArray([...references].flatMap(([typeId, of]) => (of.length > 0 ? [typeId] : []))),
      boundArray([...known]),
    ],
  )
  if (rows.length > mostChanges) throw tooMany()
  const gone = new Set(deleted.map(placeOf))
  const left = valuesBefore(rows)
  const went = new Set<string>()
  for (let found = true; found;) {
    found = false
    for (const [place, record] of left) {
      const to = referredBy(references, record).filter((other) => gone.has(other))
      if (to.length === 0) continue
      left.delete(place)
      went.add(place)
      if (record.row.action === 'delete') gone.add(placeOf(record.row))
      found = true
    }
  }
  return rows.filter((row) => went.has(`${row.save_id}/${placeOf(row)}`))
}

/** The deletions of records that some refer to and that are not there. */
async function neededBy(
  db: Database,
  references: ReadonlyMap<number, readonly Reference[]>,
  deleted: readonly ChangeRow[],
  known: ReadonlySet<string>,
): Promise<ChangeRow[]> {
  const needed = new Set([...valuesBefore(deleted).values()].flatMap((record) => referredBy(references, record)))
  const places = [...needed].map((place) => {
    const at = place.indexOf('/')
    return { typeId: Number(place.slice(0, at)), key: place.slice(at + 1) }
  })
  if (places.length === 0) return []
  const { rows } = await db.raw<{ rows: ChangeRow[] }>(
    `select ${columns} from unnest(?::int[], ?::text[]) as w(type_id, record_key)
       cross join lateral (select l.id, l.captured_at, l.action from ledger.save l
         where l.type_id = w.type_id and l.record_key = w.record_key order by l.captured_at desc, l.id desc limit 1) last
       join ledger.save s on s.id = last.id and s.captured_at = last.captured_at
       join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at
      where last.action = 'delete' and s.id <> all(?::bigint[])`,
    [boundArray(places.map((one) => one.typeId)), boundArray(places.map((one) => one.key)), boundArray([...known])],
  )
  return rows
}
