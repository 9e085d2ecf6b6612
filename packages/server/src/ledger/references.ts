import type { Change, Reference } from '@spoor/contract'
import type { Scope } from '@spoor/core'
import { isLimited, reachIn } from './reach.ts'
import { boundArray, type Database } from '../database/knex.ts'

type Pointing = Pick<Change, 'fieldId' | 'before' | 'after'>

/** What the records are called that the changes' reference fields point to, where they were met, found or asked for. */
export async function referencesOf(db: Database, changes: readonly Pointing[]): Promise<Reference[]> {
  const pointing = new Set(await db('spoor.field').whereNotNull('refers_to').pluck<number[]>('id'))
  const wanted = changes.flatMap(({ fieldId, before, after }) =>
    pointing.has(fieldId) ? [before, after].flatMap((value) => (value === null ? [] : [{ fieldId, value }])) : [],
  )
  if (wanted.length === 0) return []
  const { rows } = await db.raw<{ rows: Reference[] }>(
    `select distinct w.field_id as "fieldId", w.value, r.label
       from unnest(?::int[], ?::text[]) as w(field_id, value)
       join spoor.field f on f.id = w.field_id and f.refers_to is not null
       cross join lateral (select replace(json_build_array(w.value)::text, ', ', ',') as key) k
       left join spoor.record met on met.type_id = f.refers_to and met.record_key = k.key
       left join spoor.called c on c.type_id = f.refers_to and c.record_key = k.key
       cross join lateral (select coalesce(met.label, c.label) as label) r
      where r.label <> w.value`,
    [boundArray(wanted.map((one) => one.fieldId)), boundArray(wanted.map((one) => one.value))],
  )
  return rows
}

/** The same for a list: whoever sees a part only is not told what records outside it are called. */
export async function referencesIn(
  db: Database,
  scopes: readonly Scope[],
  changes: readonly Pointing[],
): Promise<Reference[]> {
  return isLimited(reachIn(scopes)) ? [] : await referencesOf(db, changes)
}
