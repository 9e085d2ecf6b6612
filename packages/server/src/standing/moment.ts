import {
  compareInstants,
  groupBy,
  segmentAt,
  timelineOf,
  type CoverageSpell,
  type FoundValue,
  type Hidden,
  type Segment,
  type TrailSave,
} from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { findingsOf, type Finding } from '../ledger/findings.ts'
import { isErased, valuesOf } from '../ledger/found-record.ts'
import { threadOf, type KeySpan } from '../ledger/thread.ts'
import { keptLength } from './kept.ts'

/** A record as it was at a moment. */
export interface RecordThen {
  /** What the last save until then called it; null where none does. */
  label: string | null
  /** By field: the spell around the moment. Of a value that is longer than is told, its beginning and one character more. */
  fields: Map<number, Segment>
}

const told = keptLength + 1

interface ChangeRow {
  n: number
  field_id: number
  save_id: string
  captured_at: string
  before: string | null
  after: string | null
  erased: boolean
}

interface ActRow {
  n: number
  id: string
  captured_at: string
  action: 'create' | 'delete'
}

/** The keys that each of some records had, by its present key; most have had one. */
export async function spansOf(db: Database, typeId: number, keys: readonly string[]): Promise<Map<string, KeySpan[]>> {
  const { rows } = await db.raw<{ rows: { key: string }[] }>(
    `select distinct w.key from unnest(?::text[]) as w(key)
      where exists (select from ledger.save s where s.type_id = ? and s.key_before = w.key)
         or exists (select from ledger.save s where s.type_id = ? and s.record_key = w.key and s.key_before is not null)`,
    [boundArray(keys), typeId, typeId],
  )
  const spans = new Map(keys.map((key): [string, KeySpan[]] => [key, [{ key, from: '0', to: null }]]))
  for (const { key } of rows) spans.set(key, await threadOf(db, typeId, key))
  return spans
}

/** Spans as one relation `span(n, key, since, until)`, `n` the record's place among the keys. */
export const spanSql = `unnest(?::int[], ?::text[], ?::bigint[], ?::bigint[]) as span(n, key, since, until)`

export function spanBindings(keys: readonly string[], spans: ReadonlyMap<string, readonly KeySpan[]>): string[][] {
  const all = keys.flatMap((key, n) => spans.get(key)!.map((span) => ({ n, ...span })))
  return [
    boundArray(all.map(({ n }) => n)),
    boundArray(all.map(({ key }) => key)),
    boundArray(all.map(({ from }) => from)),
    boundArray(all.map(({ to }) => to)),
  ]
}

export const withinSpan = (of: string, number: string) =>
  `${of}.record_key = span.key and ${of}.${number} >= span.since and (span.until is null or ${of}.${number} < span.until)`

/**
 * What some records held at a moment. A field's spell is told by the evidence nearest to the moment on either side, so that
 * a record's whole trail is not read: what core reckons from these is what it reckons from all.
 * @param at an instant in UTC @param coverage of the type's fields
 */
export async function recordsAt(
  db: Database,
  typeId: number,
  keys: readonly string[],
  {
    fieldIds,
    at,
    coverage,
    masked,
  }: {
    fieldIds: readonly number[]
    at: string
    coverage: readonly CoverageSpell[]
    masked: ReadonlySet<number>
  },
): Promise<Map<string, RecordThen>> {
  const spans = await spansOf(db, typeId, keys)
  const bound = spanBindings(keys, spans)
  const changes = await changesAround(db, typeId, bound, fieldIds, at)
  const { acts, labels } = await actsAround(db, typeId, bound, at)
  const [changesOf, actsOf] = [groupBy(changes, (row) => row.n), groupBy(acts, (row) => row.n)]
  const found = await foundOfAll(db, typeId, keys, spans)
  return new Map(
    keys.map((key, n): [string, RecordThen] => {
      const saves = savesAround(changesOf.get(n) ?? [], actsOf.get(n) ?? [], masked)
      const own = found.get(key) ?? []
      const fields = fieldIds.map((fieldId): [number, Segment] => {
        const hide = (row: Finding): Hidden | null =>
          isErased(row, fieldId) ? 'erased' : masked.has(fieldId) ? 'masked' : null
        const values = own.flatMap((row): FoundValue[] => {
          const place = row.field_ids.indexOf(fieldId)
          if (place < 0) return []
          const hidden = hide(row)
          const held = hidden ? null : (valuesOf(row)[place]?.slice(0, told) ?? null)
          return [{ fieldId, at: row.instant, value: held, hidden }]
        })
        const telling = saves.filter(
          (save) => save.action !== 'change' || save.changes.some((one) => one.fieldId === fieldId),
        )
        // The spells of a timeline cover all of time.
        return [fieldId, segmentAt(timelineOf({ saves: telling, coverage, found: values }, fieldId), at)!]
      })
      return [key, { label: labels.get(n) ?? null, fields: new Map(fields) }]
    }),
  )
}

/** The evidence as saves in the order in which they came about; what one save tells stands in one. */
function savesAround(changes: readonly ChangeRow[], acts: readonly ActRow[], masked: ReadonlySet<number>): TrailSave[] {
  const saves = new Map<string, TrailSave & { changes: TrailSave['changes'][number][] }>()
  for (const { id, captured_at, action } of acts) saves.set(id, { id, at: captured_at, action, changes: [] })
  for (const { save_id, captured_at, field_id, before, after, erased } of changes) {
    const save = saves.get(save_id) ?? { id: save_id, at: captured_at, action: 'change' as const, changes: [] }
    const hidden = erased ? 'erased' : masked.has(field_id) ? 'masked' : null
    save.changes.push({ fieldId: field_id, before, after, hidden })
    saves.set(save_id, save)
  }
  return [...saves.values()].sort((a, b) => (BigInt(a.id) < BigInt(b.id) ? -1 : 1))
}

const momentSql = '(select ?::timestamptz as at) as moment'

/** The nearest first: those up to the moment before those after it; of the same instant the later, or then the earlier. */
const nearest = (of: string, number: string) =>
  `${of}.captured_at > moment.at, abs(extract(epoch from ${of}.captured_at - moment.at)),
   case when ${of}.captured_at > moment.at then ${of}.${number} else -${of}.${number} end`

/** The changes of each field that are nearest to a moment on either side. */
async function changesAround(
  db: Database,
  typeId: number,
  bound: string[][],
  fieldIds: readonly number[],
  at: string,
): Promise<ChangeRow[]> {
  const { rows } = await db.raw<{ rows: ChangeRow[] }>(
    `select distinct on (span.n, c.field_id, c.captured_at > moment.at) span.n, c.field_id, c.save_id, c.captured_at,
            left(c.before, ?) as before, left(c.after, ?) as after, c.erased
       from ${momentSql} cross join ${spanSql} join ledger.change c on c.type_id = ? and ${withinSpan('c', 'save_id')}
      where c.field_id = any(?::int[]) order by span.n, c.field_id, ${nearest('c', 'save_id')}`,
    [told, told, at, ...bound, typeId, boundArray(fieldIds)],
  )
  return rows
}

/** The creations and deletions nearest to a moment, and what the last save until then calls each record. */
async function actsAround(
  db: Database,
  typeId: number,
  bound: string[][],
  at: string,
): Promise<{ acts: ActRow[]; labels: Map<number, string> }> {
  const { rows } = await db.raw<{ rows: (ActRow & { act: boolean; later: boolean; label: string })[] }>(
    `select distinct on (span.n, s.action <> 'change', s.captured_at > moment.at) span.n, s.id, s.captured_at, s.action,
            s.label, s.action <> 'change' as act, s.captured_at > moment.at as later
       from ${momentSql} cross join ${spanSql} join ledger.save s on s.type_id = ? and ${withinSpan('s', 'id')}
      order by span.n, s.action <> 'change', ${nearest('s', 'id')}`,
    [at, ...bound, typeId],
  )
  const lastOf = new Map<number, { at: string; id: bigint; label: string }>()
  for (const { n, id, captured_at, label, later } of rows) {
    const known = lastOf.get(n)
    const order = known ? compareInstants(captured_at, known.at) : 1
    if (!later && (order > 0 || (order === 0 && BigInt(id) > known!.id)))
      lastOf.set(n, { at: captured_at, id: BigInt(id), label })
  }
  return {
    acts: rows.filter((row) => row.act),
    labels: new Map([...lastOf].map(([n, { label }]) => [n, label])),
  }
}

async function foundOfAll(
  db: Database,
  typeId: number,
  keys: readonly string[],
  spans: ReadonlyMap<string, readonly KeySpan[]>,
): Promise<Map<string, Finding[]>> {
  const still = keys.filter((key) => spans.get(key)!.length === 1 && spans.get(key)![0]!.from === '0')
  const found = new Map<string, Finding[]>()
  const one = (key: string): KeySpan => ({ key, from: '0', to: null })
  for (const row of await findingsOf(db, typeId, still.map(one)))
    found.set(row.record_key, [...(found.get(row.record_key) ?? []), row])
  for (const key of keys) if (!still.includes(key)) found.set(key, await findingsOf(db, typeId, spans.get(key)!))
  return found
}

/** How often each field of some records was changed after a moment and until another; creations and deletions apart. */
export async function timesChanged(
  db: Database,
  typeId: number,
  keys: readonly string[],
  { fieldIds, after, until }: { fieldIds: readonly number[]; after: string; until: string },
): Promise<Map<string, Map<number, number>>> {
  const bound = spanBindings(keys, await spansOf(db, typeId, keys))
  const { rows } = await db.raw<{ rows: { n: number; field_id: number; times: string }[] }>(
    `select span.n, c.field_id, count(*) as times
       from ${spanSql} join ledger.change c on c.type_id = ? and ${withinSpan('c', 'save_id')}
       join ledger.save s on s.id = c.save_id and s.captured_at = c.captured_at and s.action = 'change'
      where c.field_id = any(?::int[]) and c.captured_at > ?::timestamptz and c.captured_at <= ?::timestamptz group by 1, 2`,
    [...bound, typeId, boundArray(fieldIds), after, until],
  )
  const times = new Map<string, Map<number, number>>()
  for (const row of rows) {
    const key = keys[row.n]!
    times.set(key, (times.get(key) ?? new Map<number, number>()).set(row.field_id, Number(row.times)))
  }
  return times
}
