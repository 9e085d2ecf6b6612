import type { GuardTrial } from '@spoor/contract'
import {
  fieldsOfGuard,
  guardMeets,
  type CapturedValue,
  type Guard,
  type GuardAct,
  type GuardedSave,
  type Standing,
} from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { asOfOneMoment } from '../database/one-moment.ts'
import { maskedFields } from '../ledger/masked.ts'
import type { Answerer, Pace } from '../work/answering.ts'
import { toldAnew } from '../standing/anew.ts'

const yearMs = 365 * 86_400_000
const atOnce = 5000
/** So many of those that it meets but for the other field are asked what that held. */
const mostAsked = 2000
const mostMet = 50_000
const mostTold = 10
const mostNamed = 20

interface Row {
  id: string
  captured_at: string
  action: GuardAct
  record_key: string
  key_before: string | null
  parent_type_id: number | null
  parent_key: string | null
  label: string
  actor: string
  said: string | null
  actor_kind: string
  channel: string
  db_login: string
  reason: string | null
  together: number
  /** Each `[field, before, after]`. */
  changes: [number, CapturedValue, CapturedValue][]
}

type Place = Pick<Row, 'id' | 'captured_at'>

export interface TriedGuard {
  typeId: number
  guard: Guard
}

/** A guard tried on the past for whoever waits for it. */
export const guardTrials: Answerer<TriedGuard, GuardTrial> = {
  name: 'guard trial',
  words: 'Trying a guard on the past',
  answer: (db, tried, pace) =>
    asOfOneMoment(db, async (trx) => {
      await pace.hold(trx)
      return await tryGuard(trx, tried, Date.now(), pace)
    }),
}

/**
 * What a guard would have met in the year before now, asked of the ledger. Values that were erased are nothing there. Who acts is
 * as the ledger has it; where a login's word was not believed, nobody was said.
 */
export async function tryGuard(
  db: Database,
  { typeId, guard }: TriedGuard,
  nowMs: number,
  pace?: Pace,
): Promise<GuardTrial> {
  const type = await db('spoor.record_type').where({ id: typeId }).first<{ source_id: number } | undefined>('source_id')
  if (!type) throw new Problem('not-found', 'There is no such record type.')
  await demandShown(db, guard)
  const from = new Date(nowMs - yearMs).toISOString()
  const baseTypes = new Map(
    (
      await db('spoor.field').where({ type_id: typeId }).select<{ id: number; base_type: string }[]>('id', 'base_type')
    ).map((field) => [field.id, field.base_type]),
  )
  const baseTypeOf = (fieldId: number) => baseTypes.get(fieldId) ?? 'text'
  const met: Row[] = []
  const heldType =
    guard.held === null
      ? undefined
      : await db('spoor.field').where({ id: guard.held.fieldId }).first<{ type_id: number } | undefined>('type_id')
  let [unknown, cut, asked, looked] = [0, false, 0, 0]
  let before: Place | null = null
  for (;;) {
    const rows: Row[] = await savesOf(db, typeId, guard, { from, before })
    for (const row of rows) {
      const save = guardedSave(row, guard)
      // Whatever the other field held: only then is it looked for, since that takes the record's trail.
      if (!guardMeets({ ...guard, held: null }, save, baseTypeOf)) continue
      if (guard.held === null) {
        met.push(row)
        continue
      }
      if (asked++ >= mostAsked) {
        cut = true
        break
      }
      const held =
        heldType?.type_id === typeId
          ? await heldBefore(db, typeId, row, guard.held.fieldId)
          : await heldByParent(db, row, guard.held.fieldId)
      if (held === undefined) unknown++
      else if (guardMeets(guard, { ...save, held: () => held }, baseTypeOf)) met.push(row)
    }
    if (rows.length < atOnce || cut) break
    before = rows.at(-1)!
    cut = met.length >= mostMet
    if (cut) break
    await pace?.goOn((looked += rows.length))
  }
  met.reverse()
  return { from, unknown, cut, ...(await told(db, guard, met)) }
}

/** @throws Problem where it asks what a masked field holds: what is masked may not be found out by asking for it */
async function demandShown(db: Database, guard: Guard): Promise<void> {
  const masked = await maskedFields(db)
  const asked = fieldsOfGuard({ ...guard, fieldId: guard.test.test === 'any' ? null : guard.fieldId })
  if (asked.some((fieldId) => masked.has(fieldId)))
    throw new Problem(
      'rule-broken',
      'It asks what a masked field holds, so it is not tried on the past: what it met would tell. It can be put in force.',
    )
}

/** Saves of the type since a moment, the newest first; of a guard of a field those alone that wrote it, by that field's index. */
async function savesOf(
  db: Database,
  typeId: number,
  { fieldId, acts, above, held }: Guard,
  { from, before }: { from: string; before: Place | null },
): Promise<Row[]> {
  const asked = [fieldId, held?.fieldId ?? null].filter((id) => id !== null)
  const together =
    above === null
      ? '1'
      : `(select count(*)::int from ledger.save o where o.type_id = s.type_id and o.captured_at = s.captured_at and o.transaction_id = s.transaction_id)`
  const [place, rows, condition] =
    fieldId === null
      ? ['(s.captured_at, s.id)', 'ledger.save s', 's.captured_at > ?']
      : [
          '(w.captured_at, w.save_id)',
          'ledger.change w join ledger.save s on s.captured_at = w.captured_at and s.id = w.save_id',
          `w.field_id = ${Number(fieldId)} and w.captured_at > ?`,
        ]
  const order = place.slice(1, -1).replaceAll(',', ' desc,')
  const { rows: read } = await db.raw<{ rows: Row[] }>(
    `select s.id, s.captured_at, s.action, s.record_key, s.key_before, s.parent_type_id, s.parent_key, s.label, coalesce(k.name, a.name) as actor,
            case when not s.claimed and s.actor_kind <> 'unknown' then s.actor_name end as said, s.actor_kind,
            case when l.may_declare then s.channel else 'direct SQL' end as channel, s.db_login, s.reason,
            ${together} as together,
            (select coalesce(json_agg(json_build_array(c.field_id, c.before, c.after)), '[]') from ledger.change c
              where c.captured_at = s.captured_at and c.save_id = s.id and c.field_id = any(?::int[])) as changes
       from ${rows} join spoor.actor a on a.id = s.actor_id left join spoor.actor k on k.id = a.same_as
       left join spoor.source_login l on l.source_id = s.source_id and l.login = s.db_login
      where ${condition} and s.type_id = ? and s.action = any(?::text[]) ${before ? `and ${place} < (?::timestamptz, ?::bigint)` : ''}
      order by ${order} desc limit ?`,
    [boundArray(asked), from, typeId, boundArray(acts), ...(before ? [before.captured_at, before.id] : []), atOnce],
  )
  return read
}

function guardedSave(row: Row, guard: Guard): GuardedSave {
  const changes = new Map(row.changes.map(([fieldId, before, after]) => [fieldId, [before, after] as const]))
  return {
    action: row.action,
    changes,
    held: (fieldId) => {
      const change = changes.get(fieldId)
      if (row.action === 'create') return change?.[1] ?? null
      if (row.action === 'delete') return change?.[0] ?? null
      return change?.[0]
    },
    actor: row.said,
    kind: row.said === null ? 'unknown' : row.actor_kind,
    channel: row.channel,
    login: row.db_login,
    reason: row.reason,
    at: row.captured_at,
    together: guard.above === null ? 1 : row.together,
  }
}

/** What a field of the record held before the save; undefined where nothing says it. */
async function heldBefore(db: Database, typeId: number, row: Row, fieldId: number): Promise<CapturedValue | undefined> {
  const change = row.changes.find(([id]) => id === fieldId)
  if (row.action === 'create') return change?.[2] ?? null
  if (change) return change[1]
  // A deletion tells of every value that there was.
  if (row.action === 'delete') return null
  return stoodAs(
    await toldAnew(db, typeId, row.key_before ?? row.record_key, (BigInt(row.id) - 1n).toString()),
    fieldId,
  )
}

/** What a field of the record held whose line it was, when it was saved; undefined where nothing says it. */
async function heldByParent(db: Database, row: Row, fieldId: number): Promise<CapturedValue | undefined> {
  if (row.parent_type_id === null || row.parent_key === null) return undefined
  return stoodAs(await toldAnew(db, row.parent_type_id, row.parent_key, row.id), fieldId)
}

function stoodAs(standing: Standing | undefined, fieldId: number): CapturedValue | undefined {
  if (!standing) return undefined
  const stood = standing.fields.get(fieldId)
  if (stood) return stood.hidden === null ? stood.value : undefined
  // Made while it was tracked, a field of which nothing was said was nothing.
  return standing.born === null ? undefined : null
}

async function told(
  db: Database,
  guard: Guard,
  met: readonly Row[],
): Promise<Omit<GuardTrial, 'from' | 'unknown' | 'cut'>> {
  const stands = await standing(db, guard, met)
  const strip = new Map<string, string>()
  const byActor = new Map<string, number>()
  for (const save of met) {
    const day = save.captured_at.slice(0, 10)
    if (!strip.has(day)) strip.set(day, save.captured_at)
    byActor.set(save.actor, (byActor.get(save.actor) ?? 0) + 1)
  }
  return {
    times: met.length,
    standing: stands.size,
    strip: [...strip.values()],
    by: [...byActor]
      .map(([name, times]) => ({ name, times }))
      .sort((a, b) => b.times - a.times || a.name.localeCompare(b.name))
      .slice(0, mostNamed),
    last: met
      .slice(-mostTold)
      .reverse()
      .map((save) => ({
        saveId: save.id,
        at: save.captured_at,
        label: save.label,
        actor: save.actor,
        stands: stands.has(save.id),
      })),
  }
}

/** Of which saves what was written still stands: nothing was written over it since, under the key it was written with. */
async function standing(db: Database, { fieldId }: Guard, met: readonly Row[]): Promise<Set<string>> {
  if (met.length === 0) return new Set()
  const ofField =
    fieldId === null
      ? ''
      : `and exists (select from ledger.change c where c.captured_at = n.captured_at and c.save_id = n.id and c.field_id = ${Number(fieldId)})`
  const { rows } = await db.raw<{ rows: { id: string }[] }>(
    `select s.id from ledger.save s where s.id = any(?::bigint[])
        and not exists (select from ledger.save n where n.type_id = s.type_id and n.record_key = s.record_key and n.id > s.id and n.captured_at >= s.captured_at ${ofField})`,
    [boundArray(met.map((save) => save.id))],
  )
  return new Set(rows.map(({ id }) => id))
}
