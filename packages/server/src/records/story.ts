import type { RecordStory } from '@spoor/contract'
import type { Scope } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { referencesIn } from '../changes/queries/references.ts'
import { rowsWithChanges, saveShown } from '../changes/queries/saves.ts'
import { whereScope } from '../changes/scope-sql.ts'
import { isLimited } from '../people/reach.ts'
import { threadOf } from './thread.ts'

/** A longer story is told from its latest saves on. */
const mostSaves = 5000
/** Longer values come cut: a page that shows a whole story has no room for them. */
export const valueLength = 2000

/**
 * The story of one record within a reach.
 * @throws Problem when there is no such record that may be seen
 */
export async function storyOf(
  db: Database,
  typeId: number,
  key: string,
  reach: Scope,
  nowMs: number,
): Promise<RecordStory> {
  const spans = await threadOf(db, typeId, key)
  const query = db('ledger.save as s')
    .where('s.type_id', typeId)
    .where((any) =>
      spans.forEach(({ key: one, from, to }) =>
        any.orWhere((span) => {
          void span.where('s.record_key', one).where('s.id', '>=', from)
          if (to !== null) void span.where('s.id', '<', to)
        }),
      ),
    )
  whereScope(query, reach, 'save', 's', nowMs)
  const found: { id: string; captured_at: string }[] = await query
    .orderBy('s.id', 'desc')
    .limit(mostSaves + 1)
    .select('s.id', 's.captured_at')
  const page = found.slice(0, mostSaves).reverse()
  if (page.length === 0)
    throw new Problem(
      'not-found',
      'The trail has no save of such a record that you may see. It may never have been changed since it is tracked.',
    )
  const [rows, changes] = await rowsWithChanges(db, page, { valueLength, scopes: [{}, reach], nowMs })
  const saves = rows.map((row) => saveShown(row, changes.get(row.id) ?? [], reach))
  const partial = isLimited(reach)
  const last = saves.at(-1)!
  return {
    record: {
      typeId,
      key: last.key,
      label: last.label,
      deleted: last.action === 'delete',
      // Under which keys it went is told by saves; to whoever sees a part only, by those that they see.
      formerKeys: [
        ...new Set((partial ? saves.map((save) => save.key) : spans.map((span) => span.key)).reverse()),
      ].filter((one) => one !== last.key),
    },
    saves,
    coverage: partial ? [] : await coverageOf(db, typeId),
    more: found.length > mostSaves,
    partial,
    references: await referencesIn(db, [{}, reach], [...changes.values()].flat()),
  }
}

async function coverageOf(db: Database, typeId: number): Promise<RecordStory['coverage']> {
  const rows = await db('spoor.coverage as c')
    .join('spoor.field as f', 'f.id', 'c.field_id')
    .where('f.type_id', typeId)
    .whereRaw('c.to_at is distinct from c.from_at')
    .orderBy(['f.attribute_number', 'c.from_at'])
    .select<{ field_id: number; from_at: string; to_at: string | null; ended_because: string | null }[]>(
      'c.field_id',
      'c.from_at',
      'c.to_at',
      'c.ended_because',
    )
  return rows.map((row) => ({ fieldId: row.field_id, from: row.from_at, to: row.to_at, because: row.ended_because }))
}
