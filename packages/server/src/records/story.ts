import type { RecordStory, Role } from '@spoor/contract'
import { pageAddress, type Scope } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { coverageOf } from '../ledger/coverage.ts'
import { Problem } from '../errors.ts'
import { foundOf, type FoundOfRecord } from '../ledger/findings.ts'
import { referencesIn } from '../ledger/references.ts'
import { maskedFields } from '../ledger/masked.ts'
import { rowsWithChanges, saveShown } from '../ledger/saves.ts'
import { whereScope } from '../ledger/scope-sql.ts'
import { isLimited } from '../ledger/reach.ts'
import { threadOf } from '../ledger/thread.ts'
import { marksOf } from './marks.ts'

/** A longer story is told from its latest saves on. */
const mostSaves = 5000
/** Longer values come cut: a page that shows a whole story has no room for them. */
export const valueLength = 2000
const nothingFound: FoundOfRecord = { values: [], label: null }

/**
 * The story of one record within a reach.
 * @param role whose reader it is for, with what was made of its saves; without one nothing of that is told
 * @param length longer values come cut
 * @throws Problem when there is no such record that may be seen
 */
export async function storyOf(
  db: Database,
  typeId: number,
  key: string,
  reach: Scope,
  nowMs: number,
  { role = null, length = valueLength }: { role?: Role | null; length?: number } = {},
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
  const partial = isLimited(reach)
  const [held, [rows, changes], coverage] = await Promise.all([
    partial ? nothingFound : foundOf(db, typeId, spans, await maskedFields(db), length),
    rowsWithChanges(db, page, { valueLength: length, scopes: [{}, reach], nowMs }),
    partial ? [] : coverageOf(db, typeId, page),
  ])
  if (page.length === 0 && held.label === null)
    throw new Problem(
      'not-found',
      'The trail knows no such record that you may see. It may never have been changed since it is tracked.',
    )
  const saves = rows.map((row) => saveShown(row, changes.get(row.id) ?? [], reach))
  const last = saves.at(-1)
  const type = await db('spoor.record_type')
    .where({ id: typeId })
    .first<{ page_pattern: string | null } | undefined>('page_pattern')
  const marks =
    role === null
      ? []
      : await marksOf(
          db,
          typeId,
          partial ? [] : spans.map((span) => span.key),
          page.map((row) => row.id),
          role,
        )
  return {
    record: {
      typeId,
      key: last?.key ?? key,
      label: last?.label ?? held.label ?? key,
      deleted: last?.action === 'delete',
      // Under which keys it went is told by saves; to whoever sees a part only, by those that they see.
      formerKeys: [
        ...new Set((partial ? saves.map((save) => save.key) : spans.map((span) => span.key)).reverse()),
      ].filter((one) => one !== (last?.key ?? key)),
    },
    saves,
    found: held.values,
    coverage,
    more: found.length > mostSaves,
    marks,
    page: type?.page_pattern ? pageAddress(type.page_pattern, last?.key ?? key) : null,
    partial,
    references: await referencesIn(
      db,
      [{}, reach],
      [
        ...[...changes.values()].flat(),
        ...held.values.map(({ fieldId, value }) => ({ fieldId, before: null, after: value })),
      ],
    ),
  }
}
