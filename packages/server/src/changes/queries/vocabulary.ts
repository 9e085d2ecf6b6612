import type { Vocabulary } from '@spoor/contract'
import { fieldPlan, groupBy, reasonOf, valueOfOne, type ActorKind, type Scope, type TrackingPlan } from '@spoor/core'
import { isLimited } from '../../ledger/reach.ts'
import type { Database } from '../../database/knex.ts'
import { whereScope } from '../../ledger/scope-sql.ts'

/** The names a scope can be written with: fields that are or were tracked, and actors seen, within the reach. */
export async function readVocabulary(db: Database, reach: Scope, nowMs: number): Promise<Vocabulary> {
  const fields = db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .whereExists((q) => q.select(1).from('spoor.coverage as c').whereRaw('c.field_id = f.id'))
    .orderBy(['t.area', 't.name', 'f.attribute_number'])
    .select('f.id', 'f.type_id as typeId', 'f.name', 'f.base_type as baseType', 'f.refers_to as refersTo')
    .select(db.raw('exists (select from spoor.coverage c where c.field_id = f.id and c.to_at is null) as tracked'))
    .select(
      db.raw(`exists (select from spoor.coverage c where c.field_id = f.id and c.keep = 'fingerprint') as fingerprint`),
    )
  const actors = db('spoor.actor as a')
    .whereNull('a.same_as')
    .orderBy(['a.kind', 'a.name'])
    .select('a.id', 'a.name', 'a.kind', 'a.unit')
  if (isLimited(reach)) {
    fields.whereExists((q) => {
      q.select(1).from('ledger.change as c').whereRaw('c.field_id = f.id')
      whereScope(q, reach, 'change', 'c', nowMs)
    })
    actors.whereExists((q) => {
      q.select(1).from('ledger.save as s').whereRaw('s.actor_id = a.id')
      whereScope(q, reach, 'save', 's', nowMs)
    })
  }
  const [fieldRows, actorRows] = (await Promise.all([fields, actors])) as [
    Omit<Vocabulary['fields'][number], 'masked' | 'sensitive' | 'reason' | 'derivedFrom'>[],
    { id: number; name: string; kind: ActorKind; unit: string | null }[],
  ]
  const types: Vocabulary['types'] = await db('spoor.record_type')
    .whereIn('id', [...new Set(fieldRows.map((field) => field.typeId))])
    .orderBy(['area', 'name'])
    .select('id', 'name', 'plural', 'area', 'parent_type_id as parentTypeId', 'effective_field_id as effectiveFieldId')
  const plans = await db('spoor.plan_version').where({ state: 'in force' }).select<{ plan: TrackingPlan }[]>('plan')
  const planned = (typeId: number) => plans.find(({ plan }) => plan.types[typeId])?.plan
  const channels = db('ledger.hour_actor as h').distinct('h.channel').orderBy('h.channel')
  if (isLimited(reach))
    channels.whereExists((q) => {
      q.select(1).from('ledger.save as s').whereRaw('s.channel = h.channel')
      whereScope(q, reach, 'save', 's', nowMs)
    })
  return {
    called: isLimited(reach) ? [] : await calledOf(db, fieldRows),
    types,
    actors: actorRows,
    units: [...new Set(actorRows.flatMap(({ unit }) => (unit === null ? [] : [unit])))].sort(),
    channels: ((await channels) as { channel: string }[]).map((row) => row.channel),
    fields: fieldRows.map((field) => {
      const plan = planned(field.typeId)
      const kept = plan && fieldPlan(plan, field.typeId, field.id)
      return {
        ...field,
        masked: kept?.masked ?? false,
        sensitive: kept?.sensitive ?? false,
        reason: plan ? reasonOf(plan, field.typeId, field.id) : 'never',
        derivedFrom: [...(kept?.derivedFrom ?? [])],
      }
    }),
  }
}

/** Of more records of a type nobody chooses from a list. */
const mostCalled = 300

/** What records are called that fields refer to, of types with a few records. */
async function calledOf(db: Database, fields: readonly { refersTo: number | null }[]): Promise<Vocabulary['called']> {
  const types = [...new Set(fields.flatMap(({ refersTo }) => refersTo ?? []))]
  const { rows } = await db.raw<{ rows: { type_id: number; record_key: string; label: string }[] }>(
    `select t.id as type_id, r.record_key, r.label from unnest(?::int[]) as t(id)
       cross join lateral (select record_key, label from spoor.record where type_id = t.id
         union select record_key, label from spoor.called c where c.type_id = t.id
           and not exists (select from spoor.record r where r.type_id = c.type_id and r.record_key = c.record_key)
         limit ?) as r order by r.label`,
    [types, mostCalled + 1],
  )
  const ofType = groupBy(rows, (row) => row.type_id)
  return [...ofType.values()]
    .filter((own) => own.length <= mostCalled)
    .flat()
    .flatMap(({ type_id, record_key, label }) => {
      const value = valueOfOne(record_key)
      return value === null ? [] : [{ typeId: type_id, value, label }]
    })
}
