import { canonicalSave, changeDigest, commitmentsOf, fromHex, leafText, rise, type Commitments } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import type { ChangeRow, SaveRow } from '../ledger/row-columns.ts'
import { sha256Hex } from '../ledger/sha256.ts'

/** A save as it is in the ledger now, with what follows from it. */
export interface Recomputed {
  id: string
  at: string
  typeId: number
  label: string
  /** The leaf that is stored, and the one that the save as it is now has, in hexadecimal digits. */
  stored: string | null
  leaf: string
  canonical: string
  changes: readonly {
    fieldId: number
    before: string | null
    after: string | null
    salt: string
    erased: boolean
    stored: string | null
    digest: string
    strays: readonly string[]
  }[]
}

/** The saves with numbers from one to another, as they stand now. */
export function recompute(db: Database, fromId: string, toId: string): Promise<Recomputed[]> {
  return recomputeWhere(db, 'id >= ? and id <= ?', [fromId, toId])
}

/** Some saves, as they stand now, by their numbers. */
export function recomputeSaves(db: Database, ids: readonly string[]): Promise<Recomputed[]> {
  return recomputeWhere(db, 'id = any(?::bigint[])', [boundArray(ids)])
}

async function recomputeWhere(db: Database, where: string, values: (string | string[])[]): Promise<Recomputed[]> {
  const { rows: saves } = await db.raw<{ rows: SaveRow[] }>(
    `select id, captured_at, collected_at, source_id, type_id, record_key, key_before, label, action, actor_id, actor_kind, actor_name, claimed,
            on_behalf_of, channel, run, run_id, reason, correction_id, db_login, application_name, client_address, transaction_id, plan_version,
            outbox_seq, parent_type_id, parent_key, encode(leaf, 'hex') as leaf
       from ledger.save where ${where} order by id`,
    values,
  )
  if (saves.length === 0) return []
  const { rows: changes } = await db.raw<{ rows: ChangeRow[] }>(
    `select c.save_id, c.field_id, c.type_id, c.record_key, c.actor_id, c.actor_kind, c.before, c.after, c.parent_type_id, c.parent_key,
            c.rise::text as rise, c.rise_share, encode(c.salt, 'hex') as salt, encode(c.digest, 'hex') as digest, c.erased,
            case when c.erased then (select e.before from ledger.erased e where e.save_id = c.save_id and e.field_id = c.field_id) end as kept_before,
            case when c.erased then (select e.after from ledger.erased e where e.save_id = c.save_id and e.field_id = c.field_id) end as kept_after,
            c.erased and exists (select from ledger.erased e where e.save_id = c.save_id and e.field_id = c.field_id) as kept
       from unnest(?::timestamptz[], ?::bigint[]) as w(captured_at, id)
       -- Save by save from the index: a plan that reads a whole month for a slice of it is never better.
       cross join lateral (select * from ledger.change c where c.captured_at = w.captured_at and c.save_id = w.id offset 0) c
      order by c.save_id, c.field_id`,
    [boundArray(saves.map((save) => save.captured_at)), boundArray(saves.map((save) => save.id))],
  )
  const bySave = new Map<string, ChangeRow[]>()
  for (const change of changes) {
    const own = bySave.get(change.save_id)
    if (own) own.push(change)
    else bySave.set(change.save_id, [change])
  }
  return saves.map((save) => recomputed(save, bySave.get(save.id) ?? []))
}

/** What follows from a save and its changes, by their field ascending. */
export function recomputed(save: SaveRow, changes: readonly ChangeRow[]): Recomputed {
  const proved = changes.map((change) => {
    const salt = change.salt ?? ''
    // Of what was erased the commitments were kept; whether that was rightly done, its event says.
    const commitments: Commitments = change.kept
      ? { before: change.kept_before ?? '', after: change.kept_after ?? '' }
      : commitmentsOf(sha256Hex, salt, change.before, change.after)
    return {
      fieldId: change.field_id,
      before: change.before,
      after: change.after,
      salt,
      erased: change.erased || change.kept,
      commitments,
      stored: change.digest,
      digest: changeDigest(commitments),
      strays: straysOf(save, change),
    }
  })
  const canonical = canonicalSave({
    id: save.id,
    at: save.captured_at,
    collectedAt: save.collected_at,
    sourceId: save.source_id,
    typeId: save.type_id,
    key: save.record_key,
    keyBefore: save.key_before,
    label: save.label,
    action: save.action,
    actorId: save.actor_id,
    actorKind: save.actor_kind,
    actorName: save.actor_name ?? '',
    claimed: save.claimed,
    onBehalfOf: save.on_behalf_of,
    channel: save.channel,
    run: save.run,
    runId: save.run_id,
    reason: save.reason,
    correctionId: save.correction_id,
    login: save.db_login,
    application: save.application_name,
    address: save.client_address,
    transaction: save.transaction_id,
    planVersion: save.plan_version,
    seq: save.outbox_seq,
    parentTypeId: save.parent_type_id,
    parentKey: save.parent_key,
    changes: proved.map(({ fieldId, commitments }) => ({ fieldId, ...commitments })),
  })
  return {
    id: save.id,
    at: save.captured_at,
    typeId: save.type_id,
    label: save.label,
    stored: save.leaf !== null && fromHex(save.leaf)?.length === 32 ? save.leaf : null,
    leaf: sha256Hex(leafText(canonical)),
    canonical,
    changes: proved,
  }
}

const none: readonly string[] = []

/**
 * Columns of a change that repeat its save, or follow from its values, and do not. An empty rise is let pass: a field
 * that became a number later has none of before.
 */
function straysOf(save: SaveRow, change: ChangeRow): readonly string[] {
  const empty =
    change.before === null &&
    change.after === null &&
    change.salt === null &&
    change.rise === null &&
    change.rise_share === null
  const moved = change.rise === null ? null : rise(change.before, change.after)
  if (
    change.type_id === save.type_id &&
    change.record_key === save.record_key &&
    change.actor_id === save.actor_id &&
    change.actor_kind === save.actor_kind &&
    change.parent_type_id === save.parent_type_id &&
    change.parent_key === save.parent_key &&
    change.rise === (moved?.by ?? null) &&
    change.rise_share === (moved?.share ?? null) &&
    !change.erased &&
    !change.kept
  )
    return none
  const pairs: [string, unknown, unknown][] = [
    ['record type', change.type_id, save.type_id],
    ['record', change.record_key, save.record_key],
    ['actor', change.actor_id, save.actor_id],
    ['kind of actor', change.actor_kind, save.actor_kind],
    ['type of the parent', change.parent_type_id, save.parent_type_id],
    ['parent', change.parent_key, save.parent_key],
    ['rise', change.rise, moved?.by ?? null],
    ['share of the rise', change.rise_share, moved?.share ?? null],
    ['mark of being erased', change.erased, change.kept],
    ['emptiness', change.kept ? empty : true, true],
  ]
  return pairs.flatMap(([name, stored, expected]) => (stored === expected ? [] : [name]))
}
