import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'
import type { CapturedSave } from './interpret.ts'

interface Count {
  hour: string
  typeId: number
  fieldId: number
  changes: number
}

interface ActorCount {
  hour: string
  typeId: number
  actorId: number
  actorKind: string
  channel: string
  saves: number
  changes: number
}

/** Adds a batch to the hourly counts, by type and field, and by type, actor and channel. */
export async function addToRollups(
  trx: Knex.Transaction,
  saves: readonly { save: CapturedSave; actorId: number }[],
): Promise<void> {
  const byField = new Map<string, Count>()
  const byActor = new Map<string, ActorCount>()
  for (const { save, actorId } of saves) {
    const hour = `${save.at.slice(0, 13)}:00:00Z`
    const fieldIds = Object.keys(save.delta)
    const actorKey = `${hour} ${save.typeId} ${actorId} ${save.channel}`
    const count = byActor.get(actorKey) ?? {
      hour,
      typeId: save.typeId,
      actorId,
      actorKind: save.who.kind,
      channel: save.channel,
      saves: 0,
      changes: 0,
    }
    count.saves++
    count.changes += fieldIds.length
    byActor.set(actorKey, count)
    for (const fieldId of fieldIds) {
      const key = `${hour} ${fieldId}`
      const known = byField.get(key)
      if (known) known.changes++
      else byField.set(key, { hour, typeId: save.typeId, fieldId: Number(fieldId), changes: 1 })
    }
  }
  await addFieldCounts(trx, [...byField.values()])
  await addActorCounts(trx, [...byActor.values()])
  await addKindCounts(trx, [...byActor.values()])
}

async function addKindCounts(trx: Knex.Transaction, counts: readonly ActorCount[]): Promise<void> {
  const byKind = new Map<string, Pick<ActorCount, 'hour' | 'actorKind' | 'saves' | 'changes'>>()
  for (const { hour, actorKind, saves, changes } of counts) {
    const known = byKind.get(`${hour} ${actorKind}`)
    if (known) {
      known.saves += saves
      known.changes += changes
    } else byKind.set(`${hour} ${actorKind}`, { hour, actorKind, saves, changes })
  }
  const rows = [...byKind.values()]
  await trx.raw(
    `insert into ledger.hour_kind (hour, actor_kind, saves, changes)
     select * from unnest(?::timestamptz[], ?::text[], ?::bigint[], ?::bigint[])
     on conflict (hour, actor_kind) do update
       set saves = hour_kind.saves + excluded.saves, changes = hour_kind.changes + excluded.changes`,
    [rows.map((c) => c.hour), rows.map((c) => c.actorKind), rows.map((c) => c.saves), rows.map((c) => c.changes)].map(
      boundArray,
    ),
  )
}

async function addFieldCounts(trx: Knex.Transaction, counts: readonly Count[]): Promise<void> {
  await trx.raw(
    `insert into ledger.hour_field (hour, type_id, field_id, changes)
     select * from unnest(?::timestamptz[], ?::int[], ?::int[], ?::bigint[])
     on conflict (hour, type_id, field_id) do update set changes = hour_field.changes + excluded.changes`,
    [
      counts.map((c) => c.hour),
      counts.map((c) => c.typeId),
      counts.map((c) => c.fieldId),
      counts.map((c) => c.changes),
    ].map(boundArray),
  )
}

async function addActorCounts(trx: Knex.Transaction, counts: readonly ActorCount[]): Promise<void> {
  await trx.raw(
    `insert into ledger.hour_actor (hour, type_id, actor_id, actor_kind, channel, saves, changes)
     select * from unnest(?::timestamptz[], ?::int[], ?::int[], ?::text[], ?::text[], ?::bigint[], ?::bigint[])
     on conflict (hour, type_id, actor_id, channel) do update
       set saves = hour_actor.saves + excluded.saves, changes = hour_actor.changes + excluded.changes`,
    [
      counts.map((c) => c.hour),
      counts.map((c) => c.typeId),
      counts.map((c) => c.actorId),
      counts.map((c) => c.actorKind),
      counts.map((c) => c.channel),
      counts.map((c) => c.saves),
      counts.map((c) => c.changes),
    ].map(boundArray),
  )
}
