import type { RecordStory } from '@spoor/contract'
import type { Scope } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { foundOf } from '../found/read.ts'
import { referencesIn } from '../ledger/references.ts'
import { maskedFields } from '../ledger/masked.ts'
import { rowsWithChanges, saveShown } from '../ledger/saves.ts'
import { whereScope } from '../ledger/scope-sql.ts'
import { isLimited } from '../ledger/reach.ts'
import { threadOf } from '../ledger/thread.ts'

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
  const partial = isLimited(reach)
  const held = partial
    ? { values: [], label: null }
    : await foundOf(db, typeId, spans, await maskedFields(db), valueLength)
  if (page.length === 0 && held.label === null)
    throw new Problem(
      'not-found',
      'The trail knows no such record that you may see. It may never have been changed since it is tracked.',
    )
  const [rows, changes] = await rowsWithChanges(db, page, { valueLength, scopes: [{}, reach], nowMs })
  const saves = rows.map((row) => saveShown(row, changes.get(row.id) ?? [], reach))
  const last = saves.at(-1)
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
    coverage: partial ? [] : await coverageOf(db, typeId, page),
    more: found.length > mostSaves,
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

/** A save that a plan's triggers captured comes so long at most before the moment that is written down for them. */
const earlyMs = 10_000

/**
 * The spells in which a type's fields were tracked, as a record's saves bear them out: between the moment its triggers came
 * to be in force and the one that was written down as their beginning, a save may have been captured by them; then they were.
 */
async function coverageOf(
  db: Database,
  typeId: number,
  saves: readonly { id: string; captured_at: string }[],
): Promise<RecordStory['coverage']> {
  const spells = await db('spoor.coverage as c')
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
  const begun = [...new Set(spells.map((spell) => spell.from_at))]
  const early = await earliest(db, begun, saves)
  return spells.map(({ field_id, from_at, to_at, ended_because }) => ({
    fieldId: field_id,
    from: early.get(from_at) ?? from_at,
    to: to_at,
    because: ended_because,
  }))
}

/** Just before the first of the saves that the triggers of a plan captured before it is said to be in force, by that moment. */
async function earliest(
  db: Database,
  begun: readonly string[],
  saves: readonly { id: string; captured_at: string }[],
): Promise<Map<string, string>> {
  const close = saves.filter(({ captured_at }) =>
    begun.some((from) => {
      const byMs = Date.parse(from) - Date.parse(captured_at)
      return byMs >= 0 && byMs < earlyMs
    }),
  )
  if (close.length === 0) return new Map()
  const { rows } = await db.raw<{ rows: { put_at: string; at: string }[] }>(
    `select v.put_at, min(s.captured_at) - interval '1 microsecond' as at
       from spoor.plan_version v join ledger.save s on s.source_id = v.source_id and s.plan_version >= v.version and s.captured_at < v.put_at
      where v.put_at = any(?::timestamptz[]) and s.id = any(?::bigint[]) and s.captured_at > v.put_at - make_interval(secs => ?) group by 1`,
    [boundArray(begun), boundArray(close.map((save) => save.id)), earlyMs / 1000],
  )
  return new Map(rows.map(({ put_at, at }) => [put_at, at]))
}
