import type { Alarm, AlarmCode } from '@spoor/contract'
import type { Knex } from 'knex'
import { boundArray, type Database, type Run } from '../database/knex.ts'
import { runIn } from '../database/plain.ts'
import { Problem } from '../errors.ts'

/** Something wrong, with what shows it. */
export interface Wrong {
  code: AlarmCode
  /** Null for the ledger itself. */
  sourceId: number | null
  /** What it is about, the same each time it is found; its words where they say nothing that differs then. */
  place?: string
  words: string
  checkId?: number | null
  saveId?: string
  fieldId?: number
  /** Digests: the one that is stored, and the one that what is there has. */
  stored?: string
  expected?: string
  /** Between which two seals it lies. */
  afterSeal?: number | null
  beforeSeal?: number | null
}

/** Raises an alarm; one that stands for the same place stays as it is. @returns whether it is new */
export async function raiseAlarm(db: Knex, wrong: Wrong): Promise<boolean> {
  return db.isTransaction
    ? await raiseAlarmBy(runIn(db as Knex.Transaction), wrong)
    : await db.transaction((trx) => raiseAlarmBy(runIn(trx), wrong))
}

/** The same where there is no transaction of Knex's. */
export async function raiseAlarmBy(run: Run, wrong: Wrong): Promise<boolean> {
  const rows = await run(
    `insert into spoor.alarm (code, source_id, place, words, check_id, save_id, field_id, stored, expected, after_seal, before_seal)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
     on conflict (source_id, code, place) where settled_at is null and over_at is null do nothing returning id`,
    [
      wrong.code,
      wrong.sourceId,
      wrong.place ?? wrong.words,
      wrong.words,
      wrong.checkId ?? null,
      wrong.saveId ?? null,
      wrong.fieldId ?? null,
      wrong.stored ?? null,
      wrong.expected ?? null,
      wrong.afterSeal ?? null,
      wrong.beforeSeal ?? null,
    ],
  )
  return rows.length > 0
}

/**
 * What was wrong holds no longer: from here it is the past, and still waits for somebody's words.
 * @param still what still holds, by its place
 */
export async function overAlarms(
  db: Knex,
  sourceId: number,
  code: AlarmCode,
  still: readonly string[] = [],
): Promise<void> {
  await db('spoor.alarm')
    .where({ source_id: sourceId, code, settled_at: null, over_at: null })
    .whereRaw('place <> all(?::text[])', [boundArray(still)])
    .update({ over_at: db.fn.now() })
}

interface AlarmRow {
  id: number
  code: AlarmCode
  source: string | null
  raised_at: string
  over_at: string | null
  words: string
  save_id: string | null
  field_id: number | null
  stored: string | null
  expected: string | null
  after_seal: string | null
  before_seal: string | null
  settled_by: string | null
  settled_at: string | null
  settled_why: string | null
}

const numberOf = (text: string | null) => (text === null ? null : Number(text))

function shown(row: AlarmRow): Alarm {
  return {
    id: Number(row.id),
    code: row.code,
    source: row.source,
    at: row.raised_at,
    overAt: row.over_at,
    words: row.words,
    saveId: row.save_id,
    fieldId: row.field_id,
    stored: row.stored,
    expected: row.expected,
    afterSeal: numberOf(row.after_seal),
    beforeSeal: numberOf(row.before_seal),
    settled:
      row.settled_at === null ? null : { by: row.settled_by ?? '', at: row.settled_at, why: row.settled_why ?? '' },
  }
}

const alarms = (db: Database) =>
  db('spoor.alarm as a')
    .leftJoin('spoor.person as p', 'p.id', 'a.settled_by')
    .leftJoin('spoor.source as s', 's.id', 'a.source_id')
    .orderBy('a.id', 'desc')
    .select<AlarmRow[]>('a.*', 'p.name as settled_by', 's.name as source')

export interface AlarmsWanted {
  settled: boolean
  codes?: readonly AlarmCode[]
}

const mostListed = 200

/** Alarms, the latest first. */
export async function listAlarms(
  db: Database,
  { settled, codes }: AlarmsWanted,
): Promise<{ alarms: Alarm[]; count: number }> {
  const wanted = (query: Knex.QueryBuilder) => {
    void (settled ? query.whereNotNull('settled_at') : query.whereNull('settled_at'))
    if (codes) void query.whereIn('code', codes as AlarmCode[])
  }
  const rows = await alarms(db).modify(wanted).limit(mostListed)
  const [all] = await db('spoor.alarm').modify(wanted).count<{ count: string }[]>('* as count')
  return { alarms: rows.map(shown), count: Number(all?.count ?? 0) }
}

/** @returns the alarm, and the place it was about */
export async function settleAlarm(
  trx: Knex.Transaction,
  id: number,
  personId: number,
  why: string,
): Promise<{ alarm: Alarm; place: string }> {
  await trx('spoor.alarm')
    .where({ id, settled_at: null })
    .update({ settled_by: personId, settled_at: trx.fn.now(), settled_why: why })
  const [row] = await alarms(trx).where('a.id', id)
  if (!row) throw new Problem('not-found', 'There is no such alarm.')
  return { alarm: shown(row), place: (row as AlarmRow & { place: string }).place }
}

/** How many alarms stand, by code. */
export async function countAlarms(db: Database): Promise<Map<AlarmCode, number>> {
  const rows = await db('spoor.alarm')
    .whereNull('settled_at')
    .groupBy('code')
    .select<{ code: AlarmCode; count: string }[]>('code', db.raw('count(*)'))
  return new Map(rows.map(({ code, count }) => [code, Number(count)]))
}
