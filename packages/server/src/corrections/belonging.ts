import { groupBy, placeOfRecord, recordPlace, recordsReferred, type Reference } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import type { Sources } from '../sources/registry.ts'
import { columns, mostChanges, tooMany, type ChangeRow } from './change-rows.ts'
import { referencesIn } from './tables.ts'

const placeOf = (row: ChangeRow) => recordPlace(row.type_id, row.record_key)

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

/** The values before of what saves changed, by save. */
function valuesBefore(rows: readonly ChangeRow[]): Map<string, { row: ChangeRow; before: Map<number, string | null> }> {
  const records = new Map<string, { row: ChangeRow; before: Map<number, string | null> }>()
  for (const row of rows) {
    if (!records.has(row.save_id)) records.set(row.save_id, { row, before: new Map() })
    records.get(row.save_id)!.before.set(row.field_id, row.before)
  }
  return records
}

const referredBy = (
  references: ReadonlyMap<number, readonly Reference[]>,
  { row, before }: { row: ChangeRow; before: ReadonlyMap<number, string | null> },
) => recordsReferred(row.record_key, references.get(row.type_id) ?? [], (fieldId) => before.get(fieldId))

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
  const records = valuesBefore(rows)
  const links = [...records].flatMap(([save, record]) =>
    referredBy(references, record).map((referred) => ({ save, to: placeOfRecord(referred) })),
  )
  const dependents = groupBy(links, ({ to }) => to)
  const went = new Set<string>()
  const gone = deleted.map(placeOf)
  for (let place = gone.pop(); place !== undefined; place = gone.pop())
    for (const { save } of dependents.get(place) ?? []) {
      if (went.has(save)) continue
      went.add(save)
      const { row } = records.get(save)!
      if (row.action === 'delete') gone.push(placeOf(row))
    }
  return rows.filter((row) => went.has(row.save_id))
}

/** The deletions of records that some refer to and that are not there. */
async function neededBy(
  db: Database,
  references: ReadonlyMap<number, readonly Reference[]>,
  deleted: readonly ChangeRow[],
  known: ReadonlySet<string>,
): Promise<ChangeRow[]> {
  const needed = [...valuesBefore(deleted).values()].flatMap((record) => referredBy(references, record))
  const places = [...new Map(needed.map((one) => [placeOfRecord(one), one])).values()]
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
