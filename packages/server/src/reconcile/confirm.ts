import { setTimeout as sleep } from 'node:timers/promises'
import { canonicalKey, compareInstants, isOfFound, type CapturedValue, type Standing, type Stood } from '@spoor/core'
import { heldByKey, type HeldRow } from '../capture/held.ts'
import type { CapturedTable } from '../capture/table.ts'
import type { Knex } from 'knex'
import { readRows, type WritableTable } from '../corrections/source-writer.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { valuesOf } from '../ledger/found-record.ts'
import { fingerprint } from '../ledger/fingerprint.ts'
import { beginning, keptLength, standingAt } from '../standing/kept.ts'
import { mostBehind, savesBehind, tailOf } from '../standing/tail.ts'

/** What a record holds that its trail does not say. */
export interface Differing {
  key: string
  label: string
  fieldId: number | null
  kind: 'value' | 'gone' | 'unheard'
  trail: CapturedValue
  source: CapturedValue
  cut: boolean
  /** When the trail says that it came to hold what it says; null where nothing does. */
  since: string | null
}

export interface Confirmed {
  differing: Differing[]
  /** Keys of records that went on changing. */
  moving: string[]
  /** When the source was looked at, by its own clock. */
  at: string
}

export interface Held {
  db: Database
  source: Database
  table: CapturedTable
  writable: WritableTable
  fingerprintKey: Buffer
  /** Whether everything that was there when tracking began was taken in: then the trail knows every record. */
  whole: boolean
  /** By field: since when it is, or was last, tracked without a break. What the trail says from before that is not of now. */
  since: ReadonlyMap<number, string>
}

/** The ledger has what was committed some seconds ago, unless it is far behind. */
const tries = 40
const betweenMs = 500

interface Look {
  at: string
  /** Keys of records of which something is still to be collected. */
  waiting: ReadonlySet<string>
  rows: ReadonlyMap<string, ReadonlyMap<number, CapturedValue>>
}

/**
 * Holds some records against their trail, again and again, until each either agrees or was seen twice to differ in the same
 * way, with nothing of it on the way to the ledger.
 * @param progress is awaited between looks, so that it may break off
 */
export async function confirm(held: Held, keys: readonly string[], progress: () => Promise<void>): Promise<Confirmed> {
  let doubtful = [...keys]
  const differing: Differing[] = []
  let seen = new Map<string, string>()
  let at = ''
  for (let n = 0; n < tries && doubtful.length > 0; n++) {
    if (n > 0) await sleep(betweenMs)
    await progress()
    const look = await lookAt(held, doubtful)
    at = look.at
    // Whatever was committed before the look and does not wait is in the ledger by now.
    const standings = await standingsOf(held.db, held.table.typeId, doubtful)
    if (standings === null) continue
    const now = new Map<string, string>()
    for (const key of doubtful) {
      const differs = await differencesOf(held, key, look.rows.get(key), standings.get(key))
      if (differs.length === 0 && !look.waiting.has(key)) continue
      const print = JSON.stringify([differs, standings.get(key)?.lastSave ?? null])
      if (differs.length > 0 && !look.waiting.has(key) && seen.get(key) === print) differing.push(...differs)
      else now.set(key, look.waiting.has(key) ? '' : print)
    }
    doubtful = [...now.keys()]
    seen = now
  }
  return { differing, moving: doubtful, at }
}

async function lookAt({ source, table, writable }: Held, keys: readonly string[]): Promise<Look> {
  return await source.transaction(async (trx) => {
    await plainQuery(trx, 'set transaction isolation level repeatable read, read only')
    // What a policy would hide would be missing in silence; so it fails instead.
    await plainQuery(trx, 'set local row_security = off')
    const [moment] = await plainQuery<{ at: string }>(trx, 'select pg_catalog.clock_timestamp() as at')
    const waiting = await plainQuery<{ key: string; key_before: string | null }>(
      trx,
      'select distinct key, key_before from spoor_capture.outbox where type_id = $1',
      [table.typeId],
    )
    return {
      at: String(moment!.at),
      waiting: new Set(
        waiting.flatMap(({ key, key_before }) =>
          [key, key_before].flatMap((one) => (one === null ? [] : (canonicalKey(one) ?? one))),
        ),
      ),
      rows: await rowsOf(trx, table, writable, keys),
    }
  })
}

/** By an index of the table's, or, where only fingerprints are kept, as its triggers would tell of them. */
async function rowsOf(
  trx: Knex.Transaction,
  table: CapturedTable,
  writable: WritableTable,
  keys: readonly string[],
): Promise<Look['rows']> {
  if (table.fields.every(({ keep }) => keep !== 'fingerprint')) {
    const fields = table.fields.flatMap((field) => writable.fields.get(field.fieldId) ?? [])
    return await readRows(trx, writable, fields, keys)
  }
  await plainQuery(trx, 'set local search_path = pg_catalog, pg_temp')
  const rows = await plainQuery<HeldRow>(trx, heldByKey(table), [keys])
  return new Map(
    rows.map(({ key, vals }) => {
      const values = JSON.parse(vals) as CapturedValue[]
      return [canonicalKey(key) ?? key, new Map(table.fields.map(({ fieldId }, at) => [fieldId, values[at] ?? null]))]
    }),
  )
}

/** How records stand, the tail put upon what is kept; null while too much is still to be read. */
async function standingsOf(
  db: Database,
  typeId: number,
  keys: readonly string[],
): Promise<Map<string, Standing> | null> {
  return await db.transaction(
    async (trx) => {
      if ((await savesBehind(trx)) > mostBehind) return null
      const tail = await tailOf(trx, typeId)
      const kept = await standingAt(trx, typeId, keys)
      const late = new Set(tail.keys)
      return new Map(
        keys.flatMap((key): [string, Standing][] => {
          const standing = late.has(key) ? tail.records.get(key) : kept.get(key)
          return standing ? [[key, standing]] : []
        }),
      )
    },
    { isolationLevel: 'repeatable read', readOnly: true },
  )
}

async function differencesOf(
  held: Held,
  key: string,
  row: ReadonlyMap<number, CapturedValue> | undefined,
  standing: Standing | undefined,
): Promise<Differing[]> {
  const known = standing?.deleted === null ? standing : undefined
  const whole = { key, label: standing?.label ?? key, fieldId: null, trail: null, source: null, cut: false }
  if (!row) return known ? [{ ...whole, kind: 'gone', since: lastKnown(known) }] : []
  if (!known) return held.whole || standing ? [{ ...whole, kind: 'unheard', since: standing?.deleted ?? null }] : []
  const differing: Differing[] = []
  for (const { fieldId, keep } of held.table.fields) {
    const stood = stoodOf(known, fieldId, held.since.get(fieldId))
    if (stood === null || !row.has(fieldId)) continue
    const there = row.get(fieldId) ?? null
    const value = there !== null && keep === 'fingerprint' ? fingerprint(held.fingerprintKey, there) : there
    if (await agrees(held.db, held.table.typeId, key, fieldId, stood, value)) continue
    const [trail, source] = [beginning(stood.value), beginning(value)]
    const cut = Boolean(stood.cut ?? trail.cut ?? source.cut)
    differing.push({
      ...whole,
      fieldId,
      kind: 'value',
      trail: trail.value,
      source: source.value,
      cut,
      since: stood.at === '' ? known.born : stood.at,
    })
  }
  return differing
}

/**
 * What the trail says of a field now; null where it does not say. A field that a creation does not name was NULL, if it was
 * tracked then.
 */
function stoodOf({ fields, born, lastSave }: Standing, fieldId: number, since: string | undefined): Stood | null {
  if (since === undefined) return null
  const stood = fields.get(fieldId)
  if (stood) return stood.hidden === null && compareInstants(since, stood.at) <= 0 ? stood : null
  if (born === null || compareInstants(born, since) < 0) return null
  return { value: null, at: '', by: lastSave, hidden: null }
}

const lastKnown = ({ fields, born }: Standing) =>
  [...fields.values()].reduce<string | null>((last, { at }) => (last === null || at > last ? at : last), born)

async function agrees(
  db: Database,
  typeId: number,
  key: string,
  fieldId: number,
  stood: Stood,
  value: CapturedValue,
): Promise<boolean> {
  if (!stood.cut) return stood.value === value
  if (value === null || value.length <= keptLength || beginning(value).value !== stood.value) return false
  return (await wholeValue(db, typeId, key, fieldId, stood.by)) === value
}

/** A value of which only the beginning is kept beside the others, from where it stands. */
async function wholeValue(
  db: Database,
  typeId: number,
  key: string,
  fieldId: number,
  by: string,
): Promise<CapturedValue> {
  if (!isOfFound(by)) {
    const row = await db('ledger.change')
      .where({ save_id: by, field_id: fieldId })
      .first<{ after: string } | undefined>('after')
    return row?.after ?? null
  }
  const [taking, place] = by.split(':')
  const row = await db('ledger.found as f')
    .join('spoor.taking as t', 't.id', 'f.taking_id')
    .where({ 'f.taking_id': taking, 'f.place': place, 'f.type_id': typeId })
    .first<{ vals: string; field_ids: number[] } | undefined>('f.vals', 't.field_ids')
  return row ? (valuesOf(row)[row.field_ids.indexOf(fieldId)] ?? null) : null
}

/** Records as they are kept, each as one text that can be held against what is read of it in the source. */
export async function keptTexts(
  db: Database,
  { typeId, fields }: CapturedTable,
  keys: readonly string[],
): Promise<Map<string, string>> {
  const { rows } = await db.raw<{ rows: { record_key: string; held: string }[] }>(
    `select record_key, to_json(array[${fields.map(({ fieldId }) => `vals -> '${fieldId}' ->> 0`).join(', ')}]::text[])::text as held
       from spoor.standing where type_id = ? and record_key = any(?::text[]) and deleted is null`,
    [typeId, boundArray(keys)],
  )
  return new Map(rows.map((row) => [row.record_key, row.held]))
}
