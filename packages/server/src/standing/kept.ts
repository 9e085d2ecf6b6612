import type { Hidden, Standing, Standings, Stood } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'

/** Of longer values the beginning is kept; the whole stands where its save or its finding does. */
export const keptLength = 2000

/** `[value, at, by, hidden, cut]`; null at the end is left off. */
type Packed = [value: string | null, at: string, by: string, hidden?: Hidden | null, cut?: true]

/** A record as a row keeps it. */
export interface StandingRow {
  record_key: string
  label: string
  since: string | null
  born: string | null
  deleted: string | null
  last_save: string
  vals: Record<string, Packed>
}

export const standingColumns = 'record_key, label, since, born, deleted, last_save, vals'

/** The beginning of a value as it is kept here. */
export function beginning(value: string | null): { value: string | null; cut?: true } {
  if (value === null || value.length <= keptLength) return { value }
  // Half of a pair of surrogates would be no text.
  return { value: value.slice(0, keptLength).replace(/[\uD800-\uDBFF]$/, ''), cut: true }
}

function packed({ value, at, by, hidden, cut }: Stood): Packed {
  if (cut) return [value, at, by, hidden, true]
  return hidden === null ? [value, at, by] : [value, at, by, hidden]
}

export function standingOf({ label, since, born, deleted, last_save, vals }: StandingRow): Standing {
  const fields = Object.entries(vals).map(([fieldId, [value, at, by, hidden = null, cut]]): [number, Stood] => [
    Number(fieldId),
    { value, at, by, hidden, ...(cut && { cut }) },
  ])
  return { label, since, born, deleted, lastSave: last_save, fields: new Map(fields) }
}

/** Records of a type as they are kept, by a condition on the table. */
export async function readStanding(
  db: Database,
  typeId: number,
  condition: string,
  bindings: readonly (string | number | string[])[],
): Promise<Standings> {
  const { rows } = await db.raw<{ rows: StandingRow[] }>(
    `select ${standingColumns} from spoor.standing where type_id = ? and ${condition}`,
    [typeId, ...bindings],
  )
  return new Map(rows.map((row) => [row.record_key, standingOf(row)]))
}

export async function standingAt(db: Database, typeId: number, keys: readonly string[]): Promise<Standings> {
  return await readStanding(db, typeId, 'record_key = any(?::text[])', [boundArray(keys)])
}

/** Writes how some records stand; keys at which none stands any more are left. */
export async function keepStanding(
  db: Database,
  typeId: number,
  keys: readonly string[],
  records: ReadonlyMap<string, Standing>,
): Promise<void> {
  const left = keys.filter((key) => !records.has(key))
  if (left.length > 0)
    await db.raw('delete from spoor.standing where type_id = ? and record_key = any(?::text[])', [
      typeId,
      boundArray(left),
    ])
  const here = keys.flatMap((key): [string, Standing][] => {
    const standing = records.get(key)
    return standing ? [[key, standing]] : []
  })
  if (here.length === 0) return
  await db.raw(
    `insert into spoor.standing (type_id, ${standingColumns})
     select ?, * from unnest(?::text[], ?::text[], ?::timestamptz[], ?::timestamptz[], ?::timestamptz[], ?::bigint[], ?::jsonb[])
     on conflict (type_id, record_key) do update set label = excluded.label, since = excluded.since, born = excluded.born,
       deleted = excluded.deleted, last_save = excluded.last_save, vals = excluded.vals`,
    [typeId, ...keptOf(here)],
  )
}

/** Records as one bound array for each of {@link standingColumns}. */
export function keptOf(records: readonly [key: string, Standing][]): string[][] {
  const column = (of: (standing: Standing) => string | null) => boundArray(records.map(([, one]) => of(one)))
  return [
    boundArray(records.map(([key]) => key)),
    column((one) => one.label),
    column((one) => one.since),
    column((one) => one.born),
    column((one) => one.deleted),
    column((one) => one.lastSave),
    column(({ fields }) =>
      JSON.stringify(Object.fromEntries([...fields].map(([fieldId, stood]) => [fieldId, packed(stood)]))),
    ),
  ]
}
