import type { Scope } from '@spoor/core'
import type { ChangePage } from '@spoor/contract'
import type { Database } from '../../database/knex.ts'
import { whereScope } from '../scope-sql.ts'
import { changesOf, saveRows, saveShown } from './saves.ts'

export interface ChangePageRequest {
  /** `<captured_at>_<save>_<field>` of the last change already shown. */
  after: string | undefined
  limit: number
  oldestFirst: boolean
  nowMs: number
}

const listValueLength = 300

/** One page of the changes that all scopes mean, by keyset. */
export async function changePage(
  db: Database,
  scopes: readonly Scope[],
  { after, limit, oldestFirst, nowMs }: ChangePageRequest,
): Promise<ChangePage> {
  const query = db('ledger.change as r').select('r.captured_at', 'r.save_id as id', 'r.field_id')
  for (const scope of scopes) whereScope(query, scope, 'change', 'r', nowMs)
  if (after !== undefined) {
    const [at, saveId, fieldId] = after.split('_') as [string, string, string]
    const sign = oldestFirst ? '>' : '<'
    query
      .where('r.captured_at', `${sign}=`, at)
      .whereRaw(`(r.captured_at, r.save_id, r.field_id) ${sign} (?::timestamptz, ?::bigint, ?::int)`, [at, saveId, fieldId]) // prettier-ignore
  }
  const order = oldestFirst ? 'asc' : 'desc'
  const found: { captured_at: string; id: string; field_id: number }[] = await query
    .orderBy(['captured_at', 'save_id', 'field_id'].map((column) => ({ column: `r.${column}`, order })))
    .limit(limit + 1)
  const page = found.slice(0, limit)
  const unique = [...new Map(page.map((row) => [row.id, { captured_at: row.captured_at, id: row.id }])).values()]
  const rows = await saveRows(db, unique)
  const changes = await changesOf(db, rows, { valueLength: listValueLength, scopes, nowMs })
  const saves = new Map(rows.map((row) => [row.id, saveShown(row, [])]))
  const last = page.at(-1)
  return {
    lines: page.flatMap(({ id, field_id }) => {
      const save = saves.get(id)
      const change = changes.get(id)?.find((one) => one.fieldId === field_id)
      if (!save || !change) return []
      const { at, typeId, key, label, action, actor, onBehalfOf, channel, reason } = save
      return [{ saveId: id, at, typeId, key, label, action, actor, onBehalfOf, channel, reason, change }]
    }),
    next: found.length > limit && last ? `${last.captured_at}_${last.id}_${last.field_id}` : null,
  }
}
