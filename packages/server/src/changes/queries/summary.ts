import type { Scope } from '@spoor/core'
import type { Summary } from '@spoor/contract'
import { boundArray, type Database } from '../../database/knex.ts'
import { gapsIn } from './gaps.ts'
import { whereScope } from '../scope-sql.ts'

/** Exact counts of what all scopes mean, and the labels of the records they name. */
export async function summarise(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Summary> {
  const count = async (level: 'save' | 'change') => {
    const query = db(`ledger.${level} as r`)
    for (const scope of scopes) whereScope(query, scope, level, 'r', nowMs)
    const [row] = await query.count<{ count: string }[]>('* as count')
    return Number(row?.count ?? 0)
  }
  const [saves, changes, recordLabels, gaps] = await Promise.all([
    count('save'),
    count('change'),
    labels(db, scopes),
    gapsIn(db, scopes, nowMs),
  ])
  return { saves, changes, gaps, recordLabels }
}

async function labels(db: Database, scopes: readonly Scope[]): Promise<Record<string, string>> {
  const refs = scopes[0]?.record?.records ?? []
  if (refs.length === 0) return {}
  const { rows } = await db.raw<{ rows: { type_id: number; record_key: string; label: string; name: string }[] }>(
    `select r.type_id, r.record_key, r.label, t.name
       from unnest(?::int[], ?::text[]) as wanted(type_id, record_key)
       join spoor.record r using (type_id, record_key) join spoor.record_type t on t.id = r.type_id`,
    [boundArray(refs.map((ref) => ref.typeId)), boundArray(refs.map((ref) => ref.key))],
  )
  return Object.fromEntries(rows.map((row) => [`t${row.type_id}:${row.record_key}`, `${row.name} ${row.label}`]))
}
