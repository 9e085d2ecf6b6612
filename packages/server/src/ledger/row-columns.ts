import { copyRow, type CopyValue } from '../database/copy.ts'
import type { BinaryRows } from './binary-rows.ts'

/** A save as it is stored, without its changes. */
export interface SaveRow {
  id: string
  captured_at: string
  collected_at: string
  source_id: number
  type_id: number
  record_key: string
  key_before: string | null
  label: string
  action: string
  actor_id: number
  actor_kind: string
  actor_name: string | null
  claimed: boolean
  on_behalf_of: string | null
  channel: string
  run: string | null
  run_id: string | null
  reason: string | null
  correction_id: number | null
  db_login: string
  application_name: string | null
  client_address: string | null
  transaction_id: string
  plan_version: number
  outbox_seq: string
  parent_type_id: number | null
  parent_key: string | null
  leaf: string | null
}

export interface ChangeRow {
  save_id: string
  field_id: number
  type_id: number
  record_key: string
  actor_id: number
  actor_kind: string
  before: string | null
  after: string | null
  parent_type_id: number | null
  parent_key: string | null
  rise: string | null
  rise_share: number | null
  salt: string | null
  digest: string | null
  erased: boolean
  /** What was kept of an erased change; null where nothing was. */
  kept_before: string | null
  kept_after: string | null
  kept: boolean
}

/** The place of each column in a row. */
function placesOf<N extends string>(columns: readonly N[]): Readonly<Record<N, number>> {
  return Object.fromEntries(columns.map((column, place) => [column, place])) as Record<N, number>
}

/** What is written and read of a save, in this order. */
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

const plainOfSave = saveColumns.filter((column) => column !== 'leaf')
/** A save as a line of COPY. @param leaf in hexadecimal digits */
export function copiedSave(values: Readonly<Record<(typeof plainOfSave)[number], CopyValue>>, leaf: string): string {
  return copyRow(plainOfSave, values, leaf)
}

/** What is written of a change. */
export const writtenChange = [
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
] as const

const plainOfChange = writtenChange.filter((column) => column !== 'salt' && column !== 'digest')
/** A change as a line of COPY. @param salt and digest in hexadecimal digits */
export function copiedChange(
  values: Readonly<Record<(typeof plainOfChange)[number], CopyValue>>,
  salt: string,
  digest: string,
): string {
  return copyRow(plainOfChange, values, salt, digest)
}

/** What is read of it; what was kept of an erased one at the end. */
export const changeColumns = [...writtenChange, 'erased', 'kept_before', 'kept_after', 'kept'] as const
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
