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

/** Adds a batch to the hourly counts, by type and field, and by type, actor and channel; the latter by month, too. */
export async function addToRollups(
  trx: Knex.Transaction,
  saves: readonly { save: CapturedSave; actorId: number }[],
): Promise<void> {
  const byHour = new Map<string, { actors: Map<string, ActorCount>; fields: Map<string, Count> }>()
  for (const { save, actorId } of saves) {
    const hour = `${save.at.slice(0, 13)}:00:00Z`
    const known = byHour.get(hour)
    const { actors, fields } = known ?? { actors: new Map<string, ActorCount>(), fields: new Map<string, Count>() }
    if (!known) byHour.set(hour, { actors, fields })
    const { typeId, channel } = save
    const key = `${typeId} ${actorId} ${channel}`
    const count = actors.get(key) ?? { hour, typeId, actorId, actorKind: save.who.kind, channel, saves: 0, changes: 0 }
    if (count.saves++ === 0) actors.set(key, count)
    for (const fieldId in save.delta) {
      count.changes++
      const field = fields.get(fieldId)
      if (field) field.changes++
      else fields.set(fieldId, { hour, typeId, fieldId: Number(fieldId), changes: 1 })
    }
  }
  const byActor = [...byHour.values()].flatMap(({ actors }) => [...actors.values()])
  await addFieldCounts(
    trx,
    [...byHour.values()].flatMap(({ fields }) => [...fields.values()]),
  )
  await addActorCounts(trx, byActor)
  await addMonthCounts(trx, byActor)
  await addKindCounts(trx, byActor)
}

/** The same by month of UTC. */
async function addMonthCounts(trx: Knex.Transaction, counts: readonly ActorCount[]): Promise<void> {
  const byMonth = new Map<string, ActorCount>()
  for (const { hour, typeId, actorId, actorKind, channel, saves, changes } of counts) {
    const month = `${hour.slice(0, 7)}-01`
    const key = `${month} ${typeId} ${actorId} ${channel}`
    const known = byMonth.get(key)
    if (known) {
      known.saves += saves
      known.changes += changes
    } else byMonth.set(key, { hour: month, typeId, actorId, actorKind, channel, saves, changes })
  }
  await addActorCounts(trx, [...byMonth.values()], 'month')
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

async function addActorCounts(
  trx: Knex.Transaction,
  counts: readonly ActorCount[],
  by: 'hour' | 'month' = 'hour',
): Promise<void> {
  const table = `${by}_actor`
  await trx.raw(
    `insert into ledger.${table} (${by}, type_id, actor_id, actor_kind, channel, saves, changes)
     select * from unnest(?::${by === 'hour' ? 'timestamptz' : 'date'}[], ?::int[], ?::int[], ?::text[], ?::text[], ?::bigint[], ?::bigint[])
     on conflict (${by}, type_id, actor_id, channel) do update
       set saves = ${table}.saves + excluded.saves, changes = ${table}.changes + excluded.changes`,
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
