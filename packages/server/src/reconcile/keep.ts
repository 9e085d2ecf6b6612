import type { Difference } from '@spoor/contract'
import type { Knex } from 'knex'
import { overAlarms, raiseAlarm, settleAlarm } from '../alarms/alarms.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { recordEvent } from '../ledger/events.ts'
import { maskedFields } from '../ledger/masked.ts'
import { ask } from '../work/jobs.ts'
import type { Confirmed, Differing } from './confirm.ts'

/** Of more of one type an alarm tells how many there are; all of them are kept. */
const mostAlarms = 50

interface DifferenceRow {
  id: number
  type_id: number
  record_key: string
  label: string
  field_id: number | null
  kind: Differing['kind']
  trail: string | null
  source: string | null
  cut: boolean
  after_at: string | null
  seen_at: string
  over_at: string | null
  settled_at: string | null
  settled_by_name: string | null
  settled_why: string | null
  taking_job: number | null
}

const placeOf = (typeId: number, key: string, fieldId: number | null) => `${typeId} ${fieldId ?? 'record'} ${key}`
const placeOfMany = (typeId: number) => `${typeId} many`

/** What is known about a type while its records are held against their trail. */
export interface OfType {
  typeId: number
  sourceId: number
  name: string
  plural: string
  /** When the look before this one began: what agreed then came to differ since. */
  before: string | null
}

/**
 * Keeps what differs, with an alarm for each; what differs still stays as it was, and what somebody settled as it is comes up
 * again only when it changes once more.
 * @returns how many of them nobody settled
 */
export async function keepDifferences(
  trx: Knex.Transaction,
  type: OfType,
  { differing, at }: Confirmed,
): Promise<number> {
  const placed = (key: string, fieldId: number | null) => placeOf(type.typeId, key, fieldId)
  const keys = [...new Set(differing.map((one) => one.key))]
  const rows = await trx('spoor.difference')
    .where({ type_id: type.typeId, over_at: null })
    .whereRaw('record_key = any(?::text[])', [boundArray(keys)])
    .orderBy('id')
    .select<DifferenceRow[]>('*')
  // Of each place the last.
  const known = new Map(rows.map((row) => [placed(row.record_key, row.field_id), row]))
  const judged = differing.map((one) => {
    const before = known.get(placed(one.key, one.fieldId))
    const same = before?.kind === one.kind && before.trail === one.trail && before.source === one.source
    return { one, before, same, open: before !== undefined && before.settled_at === null }
  })
  const fresh = judged.filter(({ before, same, open }) => !same || (!open && before!.taking_job !== null))
  const replaced = fresh.flatMap(({ before, open }) => (open ? [before!.id] : []))
  await trx('spoor.difference')
    .whereRaw('id = any(?::int[])', [boundArray(replaced)])
    .update({ over_at: trx.fn.now() })
  await trx.batchInsert(
    'spoor.difference',
    fresh.map(({ one }) => ({
      type_id: type.typeId,
      record_key: one.key,
      field_id: one.fieldId,
      label: one.label,
      kind: one.kind,
      trail: one.trail,
      source: one.source,
      cut: one.cut,
      after_at: latest(one.since, type.before),
      seen_at: at,
    })),
  )
  return fresh.length + judged.filter(({ same, open }) => same && open).length
}

const latest = (a: string | null, b: string | null) => {
  if (a === null || b === null) return a ?? b
  return Date.parse(a) > Date.parse(b) ? a : b
}

/** What differed and was looked at again without differing is over. @param still what differs now */
export async function endDifferences(
  trx: Knex.Transaction,
  { typeId }: OfType,
  still: ReadonlySet<string>,
  until: { began: string; moving: ReadonlySet<string> },
): Promise<void> {
  const open = await trx('spoor.difference')
    .where({ type_id: typeId, settled_at: null, over_at: null })
    .where('seen_at', '<', until.began)
    .select<Pick<DifferenceRow, 'id' | 'record_key' | 'field_id'>[]>('id', 'record_key', 'field_id')
  const over = open.filter(
    ({ record_key, field_id }) => !still.has(placeOf(typeId, record_key, field_id)) && !until.moving.has(record_key),
  )
  if (over.length === 0) return
  await trx('spoor.difference')
    .whereRaw('id = any(?::int[])', [boundArray(over.map(({ id }) => id))])
    .update({ over_at: trx.fn.now() })
}

export const placesOf = (typeId: number, differing: readonly Differing[]) =>
  differing.map(({ key, fieldId }) => placeOf(typeId, key, fieldId))

/** Raises an alarm for each difference that stands, and ends those of what does not any more. */
export async function tellAlarms(trx: Knex.Transaction, type: OfType): Promise<void> {
  const open = await trx('spoor.difference as d')
    .leftJoin('spoor.field as f', 'f.id', 'd.field_id')
    .where({ 'd.type_id': type.typeId, settled_at: null, over_at: null })
    .orderBy('d.id')
    .select<(DifferenceRow & { field: string | null })[]>('d.*', 'f.name as field')
  const told = open.slice(0, mostAlarms)
  const places = told.map((row) => placeOf(type.typeId, row.record_key, row.field_id))
  for (const [at, row] of told.entries())
    await raiseAlarm(trx, {
      code: 'record-differs',
      sourceId: type.sourceId,
      place: places[at]!,
      words: `${wordsOf(type, row)} It came about ${row.after_at === null ? '' : `after ${row.after_at} and `}by ${row.seen_at}.`,
      ...(row.field_id === null ? {} : { fieldId: row.field_id }),
    })
  if (open.length > mostAlarms) {
    places.push(placeOfMany(type.typeId))
    await raiseAlarm(trx, {
      code: 'record-differs',
      sourceId: type.sourceId,
      place: placeOfMany(type.typeId),
      words: `More of ${type.plural} is not as their trail says than is told one by one.`,
    })
  }
  // Alarms of other types stand as they do.
  const others = await trx('spoor.alarm')
    .where({ source_id: type.sourceId, code: 'record-differs', settled_at: null, over_at: null })
    .whereRaw(`split_part(place, ' ', 1) <> ?`, [String(type.typeId)])
    .pluck<string[]>('place')
  await overAlarms(trx, type.sourceId, 'record-differs', [...places, ...others])
}

/** Values are not said: alarms are sealed, and what is sealed cannot be erased. */
function wordsOf({ name }: OfType, { label, field, kind }: DifferenceRow & { field: string | null }): string {
  switch (kind) {
    case 'value':
      return `${field} of ${name} ${label} is not what its trail says: no save explains it.`
    case 'gone':
      return `The source does not have ${name} ${label} any more, and no save says that it was deleted.`
    case 'unheard':
      return `The source has a ${name} ${label} that no save made.`
  }
}

const differences = (db: Knex) =>
  db('spoor.difference as d')
    .leftJoin('spoor.person as p', 'p.id', 'd.settled_by')
    .select<DifferenceRow[]>('d.*', 'p.name as settled_by_name')

function shown(row: DifferenceRow, masked: ReadonlySet<number>): Difference {
  const hide = row.field_id !== null && masked.has(row.field_id)
  return {
    id: row.id,
    typeId: row.type_id,
    key: row.record_key,
    label: row.label,
    fieldId: row.field_id,
    kind: row.kind,
    trail: hide ? null : row.trail,
    source: hide ? null : row.source,
    masked: hide,
    cut: row.cut,
    after: row.after_at,
    seenAt: row.seen_at,
    overAt: row.over_at,
    settled:
      row.settled_at === null
        ? null
        : {
            by: row.settled_by_name ?? '',
            at: row.settled_at,
            why: row.settled_why ?? '',
            takenIn: row.taking_job !== null,
          },
  }
}

const listedAtOnce = 100

export async function listDifferences(
  db: Database,
  { settled, typeId, before }: { settled: boolean; typeId?: number | undefined; before?: number | undefined },
): Promise<{ differences: Difference[]; next: number | null; count: number }> {
  const wanted = (query: Knex.QueryBuilder) => {
    if (settled) void query.where((any) => any.whereNotNull('d.settled_at').orWhereNotNull('d.over_at'))
    else void query.whereNull('d.settled_at').whereNull('d.over_at')
    if (typeId !== undefined) void query.where('d.type_id', typeId)
  }
  const query = differences(db)
    .modify(wanted)
    .orderBy('d.id', 'desc')
    .limit(listedAtOnce + 1)
  if (before !== undefined) void query.where('d.id', '<', before)
  const rows: DifferenceRow[] = await query
  const [all] = await db('spoor.difference as d').modify(wanted).count<{ count: string }[]>('* as count')
  const masked = await maskedFields(db)
  const page: DifferenceRow[] = rows.slice(0, listedAtOnce)
  return {
    differences: page.map((row) => shown(row, masked)),
    next: rows.length > listedAtOnce ? page.at(-1)!.id : null,
    count: Number(all!.count),
  }
}

/**
 * Somebody says what was found out about a difference, its alarm with it. What is taken in becomes a found value of the
 * record: known from then on, and nobody's change.
 * @throws Problem where there is none that is open, or nothing of it can be taken in
 */
export async function settleDifference(
  db: Database,
  id: number,
  { why, takeIn }: { why: string; takeIn: boolean },
  personId: number,
): Promise<Difference> {
  return await db.transaction(async (trx) => {
    const row = await trx('spoor.difference as d')
      .join('spoor.record_type as t', 't.id', 'd.type_id')
      .where('d.id', id)
      .forUpdate('d')
      .first<(DifferenceRow & { source_id: number; name: string }) | undefined>('d.*', 't.source_id', 't.name')
    if (!row) throw new Problem('not-found', 'There is no such difference. Nothing was settled.')
    if (row.settled_at !== null)
      throw new Problem('rule-broken', 'It was settled already; its words stand. Nothing was changed.')
    if (takeIn && row.kind === 'gone')
      throw new Problem(
        'rule-broken',
        'The source does not have the record any more, so there is nothing of it to take in. Settle it with words.',
      )
    const job = takeIn ? await askToTakeIn(trx, row, personId) : null
    await trx('spoor.difference')
      .where({ id })
      .update({ settled_by: personId, settled_at: trx.fn.now(), settled_why: why, taking_job: job })
    const alarm = await trx('spoor.alarm')
      .where({
        source_id: row.source_id,
        code: 'record-differs',
        place: placeOf(row.type_id, row.record_key, row.field_id),
        settled_at: null,
      })
      .first<{ id: number } | undefined>('id')
    if (alarm) await settleAlarm(trx, alarm.id, personId, why)
    await recordEvent(trx, {
      kind: 'custody',
      personId,
      sourceId: row.source_id,
      words: `settled difference ${id}, of a record that was not as its trail says${takeIn ? ', and had what it holds taken in as found' : ''}`,
    })
    const [now] = await differences(trx).where('d.id', id)
    return shown(now!, await maskedFields(trx))
  })
}

/** One record looked at as when tracking began. @returns the job */
async function askToTakeIn(
  trx: Knex.Transaction,
  {
    type_id: typeId,
    source_id: sourceId,
    record_key: key,
    name,
    id,
  }: DifferenceRow & { source_id: number; name: string },
  personId: number,
): Promise<number> {
  const fieldIds = await trx('spoor.coverage as c')
    .join('spoor.field as f', 'f.id', 'c.field_id')
    .where({ 'f.type_id': typeId, 'c.to_at': null })
    .orderBy('f.id')
    .distinct()
    .pluck<number[]>('f.id')
  const version = await trx('spoor.plan_version')
    .where({ source_id: sourceId, state: 'in force' })
    .first<{ version: number } | undefined>('version')
  if (fieldIds.length === 0 || !version)
    throw new Problem('rule-broken', 'Nothing of it is tracked any more, so nothing can be taken in.')
  const { job } = await ask(trx, {
    kind: 'taking',
    subject: `difference ${id}`,
    words: `Taking in what one ${name} holds`,
    input: { keys: [key] },
    personId,
  })
  await trx('spoor.taking').insert({
    job_id: job.id,
    source_id: sourceId,
    type_id: typeId,
    plan_version: version.version,
    field_ids: fieldIds,
  })
  return job.id
}
