import type { BinaryRows } from './binary-rows.ts'
import type { ChangeRow, SaveRow } from './recompute.ts'

/** The place of each column in a row. */
function placesOf<N extends string>(columns: readonly N[]): Readonly<Record<N, number>> {
  return Object.fromEntries(columns.map((column, place) => [column, place])) as Record<N, number>
}

/** What is read of a save, in this order. */
export const saveColumns = [
  'id',
  'captured_at',
  'collected_at',
  'source_id',
  'type_id',
  'record_key',
  'key_before',
  'label',
  'action',
  'actor_id',
  'actor_kind',
  'actor_name',
  'claimed',
  'on_behalf_of',
  'channel',
  'run',
  'run_id',
  'reason',
  'correction_id',
  'db_login',
  'application_name',
  'client_address',
  'transaction_id',
  'plan_version',
  'outbox_seq',
  'parent_type_id',
  'parent_key',
  'leaf',
] as const
export const saveAt = placesOf(saveColumns)

/** And of a change; what was kept of an erased one at the end. */
export const changeColumns = [
  'save_id',
  'captured_at',
  'field_id',
  'type_id',
  'record_key',
  'actor_id',
  'actor_kind',
  'before',
  'after',
  'parent_type_id',
  'parent_key',
  'rise',
  'rise_share',
  'salt',
  'digest',
  'erased',
  'kept_before',
  'kept_after',
  'kept',
] as const
export const changeAt = placesOf(changeColumns)

export function saveOf(row: BinaryRows): SaveRow {
  const at = saveAt
  return {
    id: row.long(at.id)!,
    captured_at: row.instant(at.captured_at)!,
    collected_at: row.instant(at.collected_at)!,
    source_id: row.int(at.source_id)!,
    type_id: row.int(at.type_id)!,
    record_key: row.text(at.record_key)!,
    key_before: row.text(at.key_before),
    label: row.text(at.label)!,
    action: row.text(at.action)!,
    actor_id: row.int(at.actor_id)!,
    actor_kind: row.text(at.actor_kind)!,
    actor_name: row.text(at.actor_name),
    claimed: row.bool(at.claimed)!,
    on_behalf_of: row.text(at.on_behalf_of),
    channel: row.text(at.channel)!,
    run: row.text(at.run),
    run_id: row.long(at.run_id),
    reason: row.text(at.reason),
    correction_id: row.int(at.correction_id),
    db_login: row.text(at.db_login)!,
    application_name: row.text(at.application_name),
    client_address: row.text(at.client_address),
    transaction_id: row.text(at.transaction_id)!,
    plan_version: row.int(at.plan_version)!,
    outbox_seq: row.long(at.outbox_seq)!,
    parent_type_id: row.int(at.parent_type_id),
    parent_key: row.text(at.parent_key),
    leaf: row.hex(at.leaf),
  }
}

export type TimedChange = ChangeRow & { captured_at: string }

export function changeOf(row: BinaryRows): TimedChange {
  const at = changeAt
  return {
    save_id: row.long(at.save_id)!,
    captured_at: row.instant(at.captured_at)!,
    field_id: row.int(at.field_id)!,
    type_id: row.int(at.type_id)!,
    record_key: row.text(at.record_key)!,
    actor_id: row.int(at.actor_id)!,
    actor_kind: row.text(at.actor_kind)!,
    before: row.text(at.before),
    after: row.text(at.after),
    parent_type_id: row.int(at.parent_type_id),
    parent_key: row.text(at.parent_key),
    rise: row.text(at.rise),
    rise_share: row.double(at.rise_share),
    salt: row.hex(at.salt),
    digest: row.hex(at.digest),
    erased: row.bool(at.erased)!,
    kept_before: row.text(at.kept_before),
    kept_after: row.text(at.kept_after),
    kept: row.bool(at.kept) ?? false,
  }
}
