import { scopeEntries, spanAround, type Scope } from '@spoor/core'
import type { BaselineComparison } from '@spoor/contract'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { maskedFields } from '../ledger/masked.ts'
import { baselineRow } from './baselines.ts'
import { memberSpans } from './members.ts'

const listedAtOnce = 200
const mostGone = 200
/** So many records are named in a scope. */
const mostNamed = 100
const shownLength = 300

interface MoveRow {
  member: string
  label: string
  field_id: number
  then: string | null
  later: string | null
  erased: boolean
  cut: boolean | null
  changes: string
  last_save: string
  last_at: string
  last_by: string
}

/** What of a baseline is another at a later moment: by what the ledger has in between. */
export async function compareBaseline(
  db: Database,
  id: number,
  { until = new Date().toISOString(), after }: { until?: string | undefined; after?: string | undefined },
): Promise<BaselineComparison> {
  const baseline = await baselineRow(db, id)
  const { type_id: typeId, field_ids: fieldIds, at } = baseline
  if (baseline.state !== 'kept') throw new Problem('rule-broken', 'Its records are still being put down.')
  if (Date.parse(until) < Date.parse(at))
    throw new Problem('bad-request', 'That moment comes before the baseline. Give a later one.')
  const place = placeOf(after)
  const [spans, bound] = await memberSpans(db, { id, typeId, at })
  const between = 's.captured_at > ?::timestamptz and s.captured_at <= ?::timestamptz'
  const own = `s.type_id = ? and s.record_key = span.key and s.id >= span.since and (span.until is null or s.id < span.until) and ${between}`
  const ownBound = [typeId, at, until]
  const gone = `gone as (select span.member, min(s.captured_at) as at, min(s.id) as id from ${spans} join ledger.save s on ${own} where s.action = 'delete' group by 1)`
  const moves = `with ${gone}, moved as (
      select span.member, c.field_id, c.save_id, c.captured_at, c.before, c.after, c.erased, s.actor_id
        from ${spans} join ledger.save s on ${own}
        join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at and c.field_id = any(?::int[])
       where s.action = 'change' and span.member not in (select member from gone)),
    firsts as (select distinct on (member, field_id) member, field_id, before, erased from moved order by member, field_id, captured_at, save_id),
    lasts as (select distinct on (member, field_id) member, field_id, after, erased, save_id, captured_at, actor_id from moved
       order by member, field_id, captured_at desc, save_id desc),
    counts as (select member, field_id, count(*) as changes from moved group by 1, 2),
    net as (select l.member, l.field_id, f.before as was, l.after as is_now, f.erased or l.erased as erased, l.save_id, l.captured_at, l.actor_id, n.changes
       from lasts l join firsts f using (member, field_id) join counts n using (member, field_id)
      where f.erased or l.erased or f.before is distinct from l.after)`
  const movesBound = [...bound, ...ownBound, ...bound, ...ownBound, boundArray(fieldIds)]
  const { rows: totals } = await db.raw<{ rows: { values: string; moved: string; deleted: string }[] }>(
    `${moves} select (select count(*) from net) as values, (select count(distinct member) from net) as moved, (select count(*) from gone) as deleted`,
    movesBound,
  )
  const { rows } = await db.raw<{ rows: MoveRow[] }>(
    `${moves} select n.member, m.label, n.field_id, left(n.was, ?) as then, left(n.is_now, ?) as later, n.erased,
            greatest(length(n.was), length(n.is_now)) > ? as cut, n.changes, n.save_id as last_save, n.captured_at as last_at,
            coalesce(k.name, a.name) as last_by
       from net n join spoor.baseline_record m on m.baseline_id = ? and m.record_key = n.member
       join spoor.actor a on a.id = n.actor_id left join spoor.actor k on k.id = a.same_as
      where ?::text is null or (n.member, n.field_id) > (?, ?) order by n.member, n.field_id limit ?`,
    [
      ...movesBound,
      shownLength,
      shownLength,
      shownLength,
      id,
      place?.key ?? null,
      place?.key ?? '',
      place?.fieldId ?? 0,
      listedAtOnce + 1,
    ],
  )
  const { rows: deleted } = await db.raw<{ rows: { key: string; label: string; at: string }[] }>(
    `with ${gone} select g.member as key, m.label, g.at from gone g
       join spoor.baseline_record m on m.baseline_id = ? and m.record_key = g.member order by m.label limit ?`,
    [...bound, ...ownBound, id, mostGone],
  )
  const { rows: named } = await db.raw<{ rows: { member: string }[] }>(
    `${moves} select distinct member from net limit ?`,
    [...movesBound, mostNamed + 1],
  )
  const masked = await maskedFields(db)
  const page = rows.slice(0, listedAtOnce)
  const last = page.at(-1)
  const [total] = totals
  return {
    until,
    records: Number(baseline.records),
    moved: Number(total!.moved),
    deleted: Number(total!.deleted),
    made: baseline.whole ? await madeSince(db, typeId, at, until) : null,
    values: Number(total!.values),
    moves: page.map((row) => {
      const hidden = masked.has(row.field_id) ? 'masked' : row.erased ? 'erased' : null
      return {
        key: row.member,
        label: row.label,
        fieldId: row.field_id,
        then: hidden ? null : row.then,
        later: hidden ? null : row.later,
        hidden,
        cut: row.cut ?? false,
        changes: Number(row.changes),
        lastSaveId: row.last_save,
        lastAt: row.last_at,
        lastBy: row.last_by,
      }
    }),
    gone: deleted,
    scope: scopeBetween(fieldIds, at, until, {
      typeId,
      keys: named.length <= mostNamed ? named.map(({ member }) => member) : [],
    }),
    next: rows.length > listedAtOnce && last ? JSON.stringify([last.member, last.field_id]) : null,
  }
}

async function madeSince(db: Database, typeId: number, at: string, until: string): Promise<number> {
  const [row] = await db('ledger.save')
    .where({ type_id: typeId, action: 'create' })
    .where('captured_at', '>', at)
    .where('captured_at', '<=', until)
    .countDistinct<{ count: string }[]>('record_key as count')
  return Number(row!.count)
}

/** What changed in between, as a scope: of the records that moved where they are few enough to be named. */
function scopeBetween(
  fieldIds: readonly number[],
  at: string,
  until: string,
  { typeId, keys }: { typeId: number; keys: readonly string[] },
): string {
  const scope: Scope = {
    what: { part: 'what', exclude: false, types: [], fields: fieldIds },
    when: {
      part: 'when',
      exclude: false,
      effective: false,
      span: spanAround(at, until, 'UTC'),
    },
    ...(keys.length === 0
      ? {}
      : { record: { part: 'record', exclude: false, lines: false, records: keys.map((key) => ({ typeId, key })) } }),
  }
  return new URLSearchParams(scopeEntries(scope)).toString()
}

/** @throws Problem where somebody made it up */
function placeOf(after: string | undefined): { key: string; fieldId: number } | null {
  if (after === undefined) return null
  try {
    const read: unknown = JSON.parse(after)
    if (Array.isArray(read) && typeof read[0] === 'string' && Number.isInteger(read[1]))
      return { key: read[0], fieldId: read[1] as number }
  } catch {
    // Said below.
  }
  throw new Problem('bad-request', 'This is not a place in the list. Begin at its top.')
}
