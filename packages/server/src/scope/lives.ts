import { setImmediate as breathe } from 'node:timers/promises'
import {
  counted,
  timelinesOf,
  type ActorKind,
  type FoundValue,
  type Life,
  type LifeSave,
  type SaveAction,
  type TrailSave,
} from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { findingsOf, findingsOfType, type FoundLook } from '../ledger/findings.ts'
import { isErased, valuesOf } from '../ledger/found-record.ts'
import { coverageOf } from '../ledger/coverage.ts'
import { threadOf, type KeySpan } from '../ledger/thread.ts'

/** A field of every record of a type, over all of time. */
export interface Lives {
  /** The key that each record has, or had last. */
  keys: string[]
  /** By the same place. */
  lives: Life[]
  /** Which record it is: the same for every field, where a key has been that of several. */
  ids: string[]
  /** The keys that it had, by the same place; null where it never had another. */
  spans: (readonly KeySpan[] | null)[]
  saves: ReadonlyMap<string, LifeSave>
}

/** More are not held in memory while somebody waits. */
const mostEvidence = 1_500_000
/** Each of those that changed their key is followed by itself. */
const mostMoved = 3000
/** Neither a number nor a status is longer, nor what a scope asks for: longer ones differ from all of these. */
const longest = 501
/** So many records are reckoned in one go. */
const atOnce = 500

interface Row {
  id: string
  captured_at: string
  record_key: string
  key_before: string | null
  action: SaveAction
  actor_id: number
  actor_kind: ActorKind
  run_id: string | null
  correction_id: number | null
  named: boolean
  before: string | null
  after: string | null
  erased: boolean | null
}

/**
 * What a field of every record of a type held, by whom and when it was brought, the same as each record's own story tells it.
 * @param trx sees one state of the ledger throughout
 * @param only the records of these keys, with every key that they ever had
 * @throws Problem where there is more than is held in memory
 */
export async function livesOf(
  trx: Knex.Transaction,
  typeId: number,
  fieldId: number,
  only?: readonly string[],
): Promise<Lives> {
  // All saves of a type are put in order at once.
  await trx.raw(`set local work_mem = '64MB'`)
  const { rows } = await trx.raw<{ rows: Row[] }>(
    `select s.id, s.captured_at, s.record_key, s.key_before, s.action, coalesce(a.same_as, a.id) as actor_id, s.actor_kind,
            s.run_id, s.correction_id, c.save_id is not null as named,
            left(c.before, ${longest}) as before, left(c.after, ${longest}) as after, c.erased
       from ledger.save s
       join spoor.actor a on a.id = s.actor_id
       left join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at and c.field_id = ?
      where s.type_id = ? and (c.save_id is not null or s.action <> 'change' or s.key_before is not null)
        ${only ? 'and s.record_key = any(?::text[])' : ''}
      order by s.id limit ?`,
    [fieldId, typeId, ...(only ? [boundArray(only)] : []), mostEvidence + 1],
  )
  if (rows.length > mostEvidence)
    throw new Problem(
      'too-large',
      `There are more than ${counted(mostEvidence, 'save')} to reckon this from. Nothing was reckoned: take a pivot of the changes instead.`,
    )
  const found = await findingsOfType(trx, typeId, fieldId, only)
  const coverage = await coverageOf(trx, typeId, rows)
  const moved = new Set(rows.flatMap((row) => (row.key_before === null ? [] : [row.key_before, row.record_key])))
  if (moved.size > mostMoved)
    throw new Problem(
      'too-large',
      `More than ${counted(mostMoved, 'record')} of this type changed their keys, and each has to be followed. Nothing was reckoned.`,
    )
  const own = new Map<string, { saves: Row[]; found: FoundValue[] }>()
  const at = (key: string) => {
    let one = own.get(key)
    if (!one) own.set(key, (one = { saves: [], found: [] }))
    return one
  }
  for (const row of rows) at(row.record_key).saves.push(row)
  for (const look of found) at(look.record_key).found.push(...valueIn(look, fieldId))

  const lives: Lives = { keys: [], lives: [], ids: [], spans: [], saves: savesOf(rows) }
  const timeline = timelinesOf(coverage, fieldId)
  const live = (
    key: string,
    spans: readonly KeySpan[] | null,
    saves: readonly Row[],
    values: readonly FoundValue[],
  ) => {
    lives.keys.push(key)
    lives.spans.push(spans)
    lives.ids.push(`${spans?.at(-1)?.to ?? ''} ${key}`)
    lives.lives.push(timeline({ saves: saves.map((row) => saveOf(row, fieldId)), found: values }))
  }
  let reckoned = 0
  for (const [key, { saves, found: values }] of own) {
    if (moved.has(key)) continue
    live(key, null, saves, values)
    // Others are served, and captured rows collected, meanwhile.
    if (++reckoned % atOnce === 0) await breathe()
  }
  for (const spans of await threadsOf(trx, typeId, moved, (key) => own.get(key)?.saves ?? [])) {
    const within = (row: Row) => spans.some((span) => span.key === row.record_key && isWithin(row.id, span))
    const saves = [...new Set(spans.map(({ key }) => key))]
      .flatMap((key) => own.get(key)?.saves.filter(within) ?? [])
      .sort((a, b) => (BigInt(a.id) < BigInt(b.id) ? -1 : 1))
    const values = (await findingsOf(trx, typeId, spans)).flatMap((look) => valueIn(look, fieldId))
    live(spans.at(-1)!.key, spans, saves, values)
  }
  return lives
}

const isWithin = (id: string, { from, to }: KeySpan) =>
  BigInt(id) >= BigInt(from) && (to === null || BigInt(id) < BigInt(to))

/** Records that changed their keys or left them to others, each once. */
async function threadsOf(
  trx: Knex.Transaction,
  typeId: number,
  keys: ReadonlySet<string>,
  savesOf: (key: string) => readonly Row[],
): Promise<KeySpan[][]> {
  const threads = new Map<string, KeySpan[]>()
  for (const key of keys) {
    const spans = await threadOf(trx, typeId, key)
    threads.set(JSON.stringify(spans), spans)
  }
  const all = [...threads.values()]
  // Whoever was deleted under a key that another took over later is a record, too.
  for (const key of keys) {
    const bearers = all.flat().filter((span) => span.key === key)
    const isBorne = ({ id }: Row) => bearers.some((span) => isWithin(id, span))
    for (let last = savesOf(key).findLast((row) => !isBorne(row)); last;) {
      const { id } = last
      const spans = await threadOf(trx, typeId, key, id)
      const own = spans.at(-1)!
      own.to = bearers
        .map(({ from }) => from)
        .filter((from) => BigInt(from) > BigInt(id))
        .reduce<string | null>((least, from) => (least === null || BigInt(from) < BigInt(least) ? from : least), null)
      all.push(spans)
      bearers.push(own)
      last = savesOf(key).findLast((row) => BigInt(row.id) < BigInt(id) && !isBorne(row))
    }
  }
  return all
}

function savesOf(rows: readonly Row[]): Map<string, LifeSave> {
  return new Map(
    rows.map((row) => [
      row.id,
      {
        at: row.captured_at,
        actorId: row.actor_id,
        actorKind: row.actor_kind,
        runId: row.run_id,
        correctionId: row.correction_id,
      },
    ]),
  )
}

function saveOf({ id, captured_at, action, named, before, after, erased }: Row, fieldId: number): TrailSave {
  const changes = named ? [{ fieldId, before, after, hidden: erased ? ('erased' as const) : null }] : []
  return { id, at: captured_at, action, changes }
}

function valueIn(look: FoundLook, fieldId: number): FoundValue[] {
  const place = look.field_ids.indexOf(fieldId)
  if (place < 0) return []
  const hidden = isErased(look, fieldId) ? 'erased' : null
  return [
    { fieldId, at: look.instant, value: hidden ? null : (valuesOf(look)[place]?.slice(0, longest) ?? null), hidden },
  ]
}
