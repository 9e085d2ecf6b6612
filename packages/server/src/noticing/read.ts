import type { ActorKind, NoticedSave } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { parentOf } from '../ledger/saves.ts'

interface Row {
  id: string
  captured_at: string
  type_id: number
  record_key: string
  parent_type_id: number | null
  parent_key: string | null
  action: NoticedSave['action']
  actor_id: number
  actor_kind: ActorKind
  claimed: boolean
  correction: boolean
  run_id: string | null
  transaction: string
}

interface ChangeRow {
  save_id: string
  field_id: number
  before: string | null
  after: string | null
  unseen: boolean
}

/** Of longer values only the beginning: nothing is reckoned with longer ones. */
const valueLength = 4000

/** The saves after one, in the order in which they reached the ledger. */
export async function readNoticed(
  db: Database,
  afterId: string,
  limit: number,
  withGaps: readonly number[],
): Promise<NoticedSave[]> {
  const { rows } = await db.raw<{ rows: Row[] }>(
    `select s.id, s.captured_at, s.type_id, s.record_key, s.parent_type_id, s.parent_key, s.action,
            coalesce(a.same_as, s.actor_id) as actor_id, coalesce(k.kind, s.actor_kind) as actor_kind, s.claimed,
            s.correction_id is not null as correction, s.run_id, s.source_id || ' ' || s.transaction_id as transaction
       from ledger.save s join spoor.actor a on a.id = s.actor_id left join spoor.actor k on k.id = a.same_as
      where s.id > ? order by s.id limit ?`,
    [afterId, limit],
  )
  const changes = await changesOf(db, rows, withGaps)
  return rows.map((row) => ({
    id: row.id,
    atMs: Date.parse(row.captured_at),
    typeId: row.type_id,
    key: row.record_key,
    parent: parentOf(row),
    action: row.action,
    actorId: row.actor_id,
    actorKind: row.actor_kind,
    claimed: row.claimed,
    correction: row.correction,
    runId: row.run_id === null ? null : Number(row.run_id),
    transaction: row.transaction,
    changes: (changes.get(row.id) ?? []).map(({ field_id, before, after, unseen }) => ({
      fieldId: field_id,
      before,
      after,
      unseen,
    })),
  }))
}

async function changesOf(
  db: Database,
  saves: readonly Row[],
  withGaps: readonly number[],
): Promise<Map<string, ChangeRow[]>> {
  // A value joins when it is the one that the trail has last; asked only of fields that once were not tracked.
  const unseen =
    withGaps.length === 0
      ? 'false'
      : `(w.action = 'change' and c.field_id = any(?::int[]) and coalesce((select not p.erased and not c.erased and p.after is distinct from c.before from ledger.change p
           where p.type_id = c.type_id and p.record_key = c.record_key and p.field_id = c.field_id
             and p.captured_at <= c.captured_at and (p.captured_at, p.save_id) < (c.captured_at, c.save_id)
           order by p.captured_at desc, p.save_id desc limit 1), false))`
  const { rows } = await db.raw<{ rows: ChangeRow[] }>(
    `select c.save_id, c.field_id, left(c.before, ${valueLength}) as before, left(c.after, ${valueLength}) as after, ${unseen} as unseen
       from unnest(?::timestamptz[], ?::bigint[], ?::text[]) as w(captured_at, id, action)
       join ledger.change c on c.captured_at = w.captured_at and c.save_id = w.id and not c.erased
      order by c.save_id, c.field_id`,
    [
      ...(withGaps.length === 0 ? [] : [boundArray(withGaps)]),
      boundArray(saves.map((save) => save.captured_at)),
      boundArray(saves.map((save) => save.id)),
      boundArray(saves.map((save) => save.action)),
    ],
  )
  const bySave = new Map<string, ChangeRow[]>()
  for (const row of rows) {
    const own = bySave.get(row.save_id)
    if (own) own.push(row)
    else bySave.set(row.save_id, [row])
  }
  return bySave
}
