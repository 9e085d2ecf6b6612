import type { Life, Scope, Segment } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { livesOf, type Lives } from './lives.ts'
import type { KeySpan } from '../ledger/thread.ts'
import { lastSave } from '../ledger/head.ts'

/** Of more records all are read anew. */
const mostTouched = 5000
const rowsAtOnce = 5000
/** So far behind the end of the ledger it may stay where nothing has touched the field. */
const mostBehind = 10_000

interface Read {
  read_save: string
  coverage: string
  places: Record<string, string>
}

/** The fields whose values some scopes ask for. */
export const heldFields = (scopes: readonly Scope[]): number[] => [
  ...new Set(scopes.flatMap(({ holds }) => holds?.tests.map(({ fieldId }) => fieldId) ?? [])),
]

/** One after the other in this process, so that those who wait for the first reading of a field hold no connection. */
const underWay = new WeakMap<Database, Map<number, Promise<void>>>()

/**
 * Brings what fields held up to all that the ledger has by now. The first time every record of the type is gone through,
 * later those that were touched.
 * @throws Problem where there is more than can be gone through
 */
export async function keepHeld(db: Database, fieldIds: readonly number[]): Promise<void> {
  for (const fieldId of fieldIds) {
    const own = underWay.get(db) ?? new Map<number, Promise<void>>()
    underWay.set(db, own)
    const next = (own.get(fieldId) ?? Promise.resolve())
      // What went wrong was said to whoever asked for it.
      .catch(() => undefined)
      .then(() => db.transaction((trx) => keepField(trx, fieldId)))
    own.set(fieldId, next)
    try {
      await next
    } finally {
      if (own.get(fieldId) === next) own.delete(fieldId)
    }
  }
}

/** A busy field is read again so often before a moment is given up. */
const mostTries = 20

/**
 * Works on one moment of the ledger for which what some fields held is read: whatever is saved in between would else
 * be judged by what was held before.
 */
export async function atMomentOf<T>(
  db: Database,
  fields: readonly number[],
  work: (trx: Knex.Transaction) => Promise<T>,
): Promise<T> {
  for (let tries = 0; tries < mostTries; tries++) {
    const done = await db.transaction(
      async (trx) => ((await isRead(trx, fields)) ? { answer: await work(trx) } : null),
      { isolationLevel: 'repeatable read' },
    )
    if (done) return done.answer
    await keepHeld(db, fields)
  }
  throw new Problem(
    'busy',
    'The fields that the scope asks for are being changed too fast to read what they held at one moment. Nothing was made; try again in a quieter minute.',
  )
}

async function isRead(trx: Knex.Transaction, fields: readonly number[]): Promise<boolean> {
  for (const fieldId of fields) {
    const field = await trx('spoor.field').where({ id: fieldId }).first<{ type_id: number } | undefined>('type_id')
    const read = await trx('spoor.held_read').where({ field_id: fieldId }).first<Read | undefined>()
    if (!field) continue
    if (!read || read.coverage !== (await coverageMark(trx, field.type_id))) return false
    if ((await touchedSince(trx, field.type_id, fieldId, read, await lastSave(trx)))?.length !== 0) return false
  }
  return true
}

async function keepField(trx: Knex.Transaction, fieldId: number): Promise<void> {
  const field = await trx('spoor.field').where({ id: fieldId }).first<{ type_id: number } | undefined>('type_id')
  if (!field) return
  const typeId = field.type_id
  await trx.raw(
    `insert into spoor.held_read (field_id, read_save, coverage, places) values (?, 0, 'none', '{}') on conflict do nothing`,
    [fieldId],
  )
  // Whatever is saved from here on is read the next time.
  const read = (await trx('spoor.held_read')
    .where({ field_id: fieldId })
    .forUpdate()
    .first<Read>('read_save', 'coverage', 'places'))!
  const head = await lastSave(trx)
  const coverage = await coverageMark(trx, typeId)
  const places = await placesOf(trx, typeId)
  const touched = coverage === read.coverage ? await touchedSince(trx, typeId, fieldId, read, head) : null
  if (touched?.length === 0) {
    if (BigInt(head) - BigInt(read.read_save) < mostBehind) return
  } else {
    const lives = await livesOf(trx, typeId, fieldId, touched ?? undefined)
    const gone = trx('spoor.held').where({ field_id: fieldId })
    if (touched) void gone.whereRaw('record_key = any(?::text[])', [boundArray(touched)])
    await gone.delete()
    await write(trx, fieldId, lives)
  }
  await trx('spoor.held_read')
    .where({ field_id: fieldId })
    .update({ read_save: head, coverage, places: JSON.stringify(places) })
}

/** Differs when any field of the type was tracked at another time than before. */
async function coverageMark(trx: Knex.Transaction, typeId: number): Promise<string> {
  const { rows } = await trx.raw<{ rows: { mark: string }[] }>(
    `select coalesce(md5(string_agg(concat_ws(' ', c.field_id, c.from_at, c.to_at), ',' order by c.id)), '') as mark
       from spoor.coverage c join spoor.field f on f.id = c.field_id where f.type_id = ?`,
    [typeId],
  )
  return rows[0]!.mark
}

/** How many records each taking of a type has taken in. */
async function placesOf(trx: Knex.Transaction, typeId: number): Promise<Record<string, string>> {
  const { rows } = await trx.raw<{ rows: { id: number; place: string }[] }>(
    `select t.id, (select coalesce(max(f.place), -1) from ledger.found f where f.taking_id = t.id) as place
       from spoor.taking t where t.type_id = ?`,
    [typeId],
  )
  return Object.fromEntries(rows.map(({ id, place }) => [id, place]))
}

/** Keys whose records were touched since the last reading, with all that these records ever had; null for too many. */
async function touchedSince(
  trx: Knex.Transaction,
  typeId: number,
  fieldId: number,
  { read_save, places }: Read,
  head: string,
): Promise<string[] | null> {
  const { rows } = await trx.raw<{ rows: { key: string }[] }>(
    `with recursive touched as (
       select s.record_key as key from ledger.save s
        where s.id > ? and s.id <= ? and s.type_id = ?
          and (s.action <> 'change' or s.key_before is not null
            or exists (select from ledger.change c where c.save_id = s.id and c.captured_at = s.captured_at and c.field_id = ?))
       union
       select f.record_key from spoor.taking t join ledger.found f on f.taking_id = t.id
        where t.type_id = ? and f.place > coalesce((?::jsonb ->> t.id::text)::bigint, -1)
       union
       select o.key from touched t cross join lateral (
         select s.key_before as key from ledger.save s where s.type_id = ? and s.record_key = t.key and s.key_before is not null
         union all select s.record_key from ledger.save s where s.type_id = ? and s.key_before = t.key) as o)
     select key from touched limit ?`,
    [read_save, head, typeId, fieldId, typeId, JSON.stringify(places), typeId, typeId, mostTouched + 1],
  )
  return rows.length > mostTouched ? null : rows.map(({ key }) => key)
}

/** A moment in the order of a record's saves. */
interface Bound {
  at: string
  save: string
}

const ever: KeySpan[] = [{ key: '', from: '0', to: null }]

async function write(trx: Knex.Transaction, fieldId: number, { keys, lives, spans }: Lives): Promise<void> {
  let rows: (string | null)[][] = []
  const flush = async () => {
    const column = (at: number) => boundArray(rows.map((row) => row[at]!))
    await trx.raw(
      `insert into spoor.held (field_id, record_key, since_save, until_save, from_at, from_save, to_at, to_save, known, value, stands, latest)
       select ?, * from unnest(?::text[], ?::bigint[], ?::bigint[], ?::timestamptz[], ?::bigint[], ?::timestamptz[], ?::bigint[], ?::boolean[], ?::text[], ?::boolean[], ?::text[])`,
      [fieldId, ...Array.from({ length: 11 }, (_, at) => column(at))],
    )
    rows = []
  }
  for (const [record, life] of lives.entries()) {
    const last = life.at(-1)?.holding
    const now = last?.state === 'value' ? ['true', last.value] : ['false', null]
    for (const span of spans[record] ?? ever)
      for (const [at, segment] of life.entries()) {
        const { holding } = segment
        if (holding.state === 'absent') continue
        const [from, to] = [begun(segment), ended(life, at)]
        rows.push([
          spans[record] ? span.key : keys[record]!,
          ...[span.from, span.to],
          ...[from.at, from.save, to.at, to.save],
          ...(holding.state === 'value' ? ['true', holding.value] : ['false', null]),
          ...now,
        ])
      }
    if (rows.length >= rowsAtOnce) await flush()
  }
  await flush()
}

const begun = ({ from, by }: Segment): Bound => ({ at: from ?? '-infinity', save: by ?? '0' })

/**
 * A deletion belongs to what it ends: it is asked for by what it took. So do the lines that go with the record, until there is
 * one under the key again.
 */
function ended(life: Life, at: number): Bound {
  const next = life[at + 1]
  const after = next?.holding.state === 'absent' ? life[at + 2] : next
  return after ? begun(after) : { at: 'infinity', save: '0' }
}

/**
 * Forgets what a field held, since some of it is being erased; it is read again when somebody asks. Works as the role that
 * erases, and keeps others from reading until its transaction ends.
 */
export async function forgetHeld(trx: Knex.Transaction, fieldId: number): Promise<void> {
  await trx.raw(
    `insert into spoor.held_read (field_id, read_save, coverage, places) values (?, 0, 'none', '{}')
     on conflict (field_id) do update set coverage = 'none'`,
    [fieldId],
  )
  await trx('spoor.held').where({ field_id: fieldId }).delete()
}
