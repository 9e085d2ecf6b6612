import { fieldPlan, valueKind, type FieldFacts, type NoticingWorld, type TrackingPlan } from '@spoor/core'
import type { Database } from '../database/knex.ts'

export interface World extends NoticingWorld {
  /** Fields that were not tracked for a while, whose values may not join. */
  withGaps: readonly number[]
}

/** How columns are called that say that somebody approved or closed a record. */
const signOffNames = /(^|_)(approved|authori[sz]ed|signed(_off)?|closed)(_|$)/i

interface FieldRow {
  id: number
  type_id: number
  column_name: string
  base_type: string
  effect: boolean
}

/** What is known of every field now, by the plans in force and by what administrators said of record types. */
export async function readWorld(db: Database, zone: string): Promise<World> {
  const plans = await db('spoor.plan_version').where({ state: 'in force' }).select<{ plan: TrackingPlan }[]>('plan')
  const fields = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .select<FieldRow[]>('f.id', 'f.type_id', 'f.column_name', 'f.base_type', 'f.refers_to')
    .select(db.raw('t.effective_field_id is not distinct from f.id as effect'))
  const facts = new Map(
    fields.map((field): [number, FieldFacts] => {
      const kept = plans.map(({ plan }) => fieldPlan(plan, field.type_id, field.id)).find((one) => one !== undefined)
      return [
        field.id,
        {
          kind: kept?.keep === 'fingerprint' ? 'other' : valueKind(field.base_type),
          derived: (kept?.derivedFrom?.length ?? 0) > 0,
          sensitive: kept?.sensitive ?? false,
          effect: field.effect,
          signOff: signOffNames.test(field.column_name),
          reference: field.refers_to !== null,
        },
      ]
    }),
  )
  const withGaps = await db('spoor.coverage')
    .whereNotNull('to_at')
    .whereRaw(
      'exists (select from spoor.coverage later where later.field_id = coverage.field_id and later.from_at > coverage.to_at)',
    )
    .distinct('field_id')
    .pluck<number[]>('field_id')
  return { field: (id) => facts.get(id), zone, withGaps }
}
