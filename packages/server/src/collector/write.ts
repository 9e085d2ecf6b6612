import { canonicalSave, counted, leafText, setAsideWords } from '@spoor/core'
import type { Knex } from 'knex'
import { raiseAlarm } from '../alarms/alarms.ts'
import { addToRollups } from './rollups.ts'
import { assignRuns } from './runs.ts'
import { copiedChange, copiedSave, saveColumns, writtenChange } from '../ledger/row-columns.ts'
import { sha256Hex } from '../ledger/sha256.ts'
import { copyInto } from '../database/copy.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { recordEvents } from '../ledger/events.ts'
import type { CapturedSave, Who } from './interpret.ts'
import type { Prepared, PreparedChange } from './prepare.ts'

export interface Batch {
  sourceId: number
  /** The count of batches the collector saw before it read; if it moved, another collector was here. */
  batchesSeen: string
  prepared: Prepared
}

export class CollectorSuperseded extends Error {}

/** Writes batches into the ledger, each in one transaction with the note of what was taken. */
export class LedgerWriter {
  readonly #db: Database
  readonly #actors = new Map<string, number>()
  constructor(db: Database) {
    this.#db = db
  }

  /** @throws CollectorSuperseded when another collector took rows of this source meanwhile; nothing is written then. */
  async write(batch: Batch): Promise<void> {
    const { setAside } = batch.prepared
    const saves = batch.prepared.saves.map(({ save }) => save)
    const actors = await this.#db.transaction(async (trx) => {
      await this.#claim(trx, batch)
      for (const month of new Set(saves.map((save) => save.at.slice(0, 7))))
        await trx.raw('select ledger.ensure_month(?::date)', [`${month}-01`])
      const actors = await this.#actorsOf(trx, saves)
      const first = await nextSaveId(trx, saves.length)
      const runs = await assignRuns(trx, batch.sourceId, saves)
      const parents = await parentTypes(trx, saves)
      const collectedAt = `${new Date().toISOString().replace(/\.?0*Z$/, '')}Z`
      const numbered = batch.prepared.saves.map(({ save, changes }, i): Numbered => ({
        save,
        changes,
        id: String(first + BigInt(i)),
        actorId: actors.get(actorName(save.who))!,
        runId: runs[i]!,
        parentTypeId: save.parentKey === null ? null : (parents.get(save.typeId) ?? null),
        collectedAt,
      }))
      await copyInto(trx, 'ledger.change', writtenChange, each(numbered, changeLines))
      await copyInto(
        trx,
        'ledger.save',
        saveColumns,
        each(numbered, (one) => [saveLine(batch.sourceId, one)]),
      )
      await addToRollups(trx, numbered)
      await noteRecords(trx, numbered)
      await keepAside(trx, batch.sourceId, setAside)
      return actors
    })
    for (const [name, number] of actors) this.#actors.set(name, number)
  }

  async #claim(trx: Knex.Transaction, { sourceId, batchesSeen, prepared }: Batch): Promise<void> {
    const updated = await trx('ledger.collector_state')
      .where({ source_id: sourceId, batches: batchesSeen })
      .update({
        batches: trx.raw('batches + 1'),
        saves: trx.raw('saves + ?', [prepared.saves.length]),
        changes: trx.raw('changes + ?', [prepared.saves.reduce((sum, { changes }) => sum + changes.length, 0)]),
        high_seq: trx.raw('greatest(high_seq, ?::bigint)', [prepared.highSeq]),
        last_at: trx.raw('greatest(last_at, ?::timestamptz)', [prepared.lastAt]),
        seen_at: trx.fn.now(),
        trouble: null,
      })
    if (updated !== 1) throw new CollectorSuperseded(`another collector took rows of source ${sourceId}`)
  }

  /** Numbers of the saves' actors. New ones are remembered only once their transaction is committed. */
  async #actorsOf(trx: Knex.Transaction, saves: readonly CapturedSave[]): Promise<ReadonlyMap<string, number>> {
    const wanted = new Map(saves.map(({ who }) => [actorName(who), who]))
    const numbers = new Map<string, number>()
    for (const [key, who] of wanted) numbers.set(key, this.#actors.get(key) ?? (await actorNumber(trx, who)))
    return numbers
  }
}

function saveLine(
  sourceId: number,
  { save, id, actorId, runId, parentTypeId, collectedAt, changes }: Numbered,
): string {
  const parentKey = parentTypeId === null ? null : save.parentKey
  const canonical = canonicalSave({
    id,
    at: save.at,
    collectedAt,
    sourceId,
    typeId: save.typeId,
    key: save.key,
    keyBefore: save.keyBefore,
    label: save.label,
    action: save.action,
    actorId,
    actorKind: save.who.kind,
    actorName: save.who.name,
    claimed: save.who.claimed,
    onBehalfOf: save.onBehalfOf,
    channel: save.channel,
    run: save.run,
    runId: String(runId),
    reason: save.reason,
    correctionId: save.correctionId,
    login: save.login,
    application: save.applicationName,
    address: save.clientAddress,
    transaction: save.transaction,
    planVersion: save.planVersion,
    seq: save.seq,
    parentTypeId,
    parentKey,
    changes: changes.map(({ fieldId, commitments }) => ({ fieldId, ...commitments })),
  })
  return copiedSave(
    {
      id,
      captured_at: save.at,
      collected_at: collectedAt,
      source_id: sourceId,
      type_id: save.typeId,
      record_key: save.key,
      key_before: save.keyBefore,
      label: save.label,
      action: save.action,
      actor_id: actorId,
      actor_kind: save.who.kind,
      actor_name: save.who.name,
      claimed: save.who.claimed,
      on_behalf_of: save.onBehalfOf,
      channel: save.channel,
      run: save.run,
      run_id: runId,
      reason: save.reason,
      correction_id: save.correctionId,
      db_login: save.login,
      application_name: save.applicationName,
      client_address: save.clientAddress,
      transaction_id: save.transaction,
      plan_version: save.planVersion,
      outbox_seq: save.seq,
      parent_type_id: parentTypeId,
      parent_key: parentKey,
    },
    sha256Hex(leafText(canonical)),
  )
}

function changeLines({ save, id, actorId, parentTypeId, changes }: Numbered): string[] {
  const parentKey = parentTypeId === null ? null : save.parentKey
  return changes.map(({ fieldId, before, after, rise, riseShare, salt, digest }) =>
    copiedChange(
      {
        save_id: id,
        captured_at: save.at,
        field_id: fieldId,
        type_id: save.typeId,
        record_key: save.key,
        actor_id: actorId,
        actor_kind: save.who.kind,
        before,
        after,
        parent_type_id: parentTypeId,
        parent_key: parentKey,
        rise,
        rise_share: riseShare,
      },
      salt,
      digest,
    ),
  )
}

function* each<T>(items: readonly T[], lines: (item: T) => readonly string[]): Generator<string> {
  for (const item of items) yield* lines(item)
}

interface Numbered {
  save: CapturedSave
  runId: number
  id: string
  actorId: number
  /** Null when the type is no line. */
  parentTypeId: number | null
  collectedAt: string
  changes: readonly PreparedChange[]
}

/** The number of an actor by the name it has now, else by one it had; a new one is made. */
async function actorNumber(trx: Knex.Transaction, { kind, name }: Who): Promise<number> {
  const { rows: known } = await trx.raw<{ rows: { id: number }[] }>(
    `select id from spoor.actor where kind = :kind and name = :name
     union all select actor_id from spoor.former_name where kind = :kind and name = :name limit 1`,
    { kind, name },
  )
  if (known[0]) return known[0].id
  const { rows } = await trx.raw<{ rows: { id: number }[] }>(
    `insert into spoor.actor (kind, name) values (?, ?) on conflict (kind, name) do update set name = excluded.name returning id`,
    [kind, name],
  )
  return rows[0]!.id
}

/** Whose lines these saves' types are, by type. */
async function parentTypes(trx: Knex.Transaction, saves: readonly CapturedSave[]): Promise<Map<number, number>> {
  const typeIds = [...new Set(saves.flatMap((save) => (save.parentKey === null ? [] : [save.typeId])))]
  if (typeIds.length === 0) return new Map()
  const rows = await trx('spoor.record_type')
    .whereIn('id', typeIds)
    .whereNotNull('parent_type_id')
    .select<{ id: number; parent_type_id: number }[]>('id', 'parent_type_id')
  return new Map(rows.map((row) => [row.id, row.parent_type_id]))
}

function actorName({ kind, name }: Who): string {
  return `${kind}\n${name}`
}

/** Draws `count` numbers without gaps: the head's row is locked until the transaction ends. */
async function nextSaveId(trx: Knex.Transaction, count: number): Promise<bigint> {
  const { rows } = await trx.raw<{ rows: { last_save_id: string }[] }>(
    'update ledger.head set last_save_id = last_save_id + ? returning last_save_id',
    [count],
  )
  return BigInt(rows[0]!.last_save_id) - BigInt(count) + 1n
}

/** What could not be understood is kept whole, and an event that is sealed says which row it was and its digest. */
async function keepAside(trx: Knex.Transaction, sourceId: number, rows: Prepared['setAside']): Promise<void> {
  if (rows.length === 0) return
  await trx.batchInsert(
    'ledger.set_aside',
    rows.map(({ seq, why, content }) => ({ source_id: sourceId, outbox_seq: seq, why, content })),
  )
  await recordEvents(
    trx,
    rows.map((row) => ({ kind: 'custody', personId: null, words: setAsideWords(sha256Hex, { sourceId, ...row }) })),
  )
  await raiseAlarm(trx, {
    code: 'rows-set-aside',
    sourceId,
    place: `rows from ${rows[0]!.seq}`,
    words: `${counted(rows.length, 'captured row')} could not be understood and ${rows.length === 1 ? 'was' : 'were'} set aside whole, the first with number ${rows[0]!.seq}: ${rows[0]!.why}. What they tell is not in the trail.`,
  })
}

/** Most saves leave a record's label as it is: those are looked at and not written. */
async function noteRecords(trx: Knex.Transaction, numbered: readonly Numbered[]): Promise<void> {
  const latest = new Map<string, { typeId: number; key: string; label: string; deleted: boolean }>()
  const cameWith = new Map<string, string>()
  for (const { save } of numbered) {
    const { typeId, key, keyBefore, label } = save
    const statement = `${save.transaction} ${save.at}`
    // Where one statement exchanges keys, another record may have come to this one already.
    if (keyBefore !== null && cameWith.get(`${typeId}/${keyBefore}`) !== statement)
      latest.set(`${typeId}/${keyBefore}`, { typeId, key: keyBefore, label, deleted: true })
    if (keyBefore !== null) cameWith.set(`${typeId}/${key}`, statement)
    latest.set(`${typeId}/${key}`, { typeId, key, label, deleted: save.action === 'delete' })
  }
  const records = [...latest.values()]
  await trx.raw(
    `insert into spoor.record (type_id, record_key, label, deleted)
     select w.type_id, w.record_key, w.label, w.deleted
       from unnest(?::int[], ?::text[], ?::text[], ?::boolean[]) as w(type_id, record_key, label, deleted)
       left join lateral (select r.label, r.deleted from spoor.record r
                           where r.type_id = w.type_id and r.record_key = w.record_key) as known on true
      where known.label is distinct from w.label or known.deleted is distinct from w.deleted
      order by w.type_id, w.record_key collate "C"
     on conflict (type_id, record_key) do update set label = excluded.label, deleted = excluded.deleted`,
    [
      records.map((r) => r.typeId),
      records.map((r) => r.key),
      records.map((r) => r.label),
      records.map((r) => r.deleted),
    ].map(boundArray),
  )
}
