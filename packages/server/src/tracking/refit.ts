import { keepOf, rulesOf, withEdits, type FieldEdit, type TrackingPlan } from '@spoor/core'
import { readTriggers } from '../capture/attest.ts'
import { installCapture } from '../capture/install.ts'
import type { Database } from '../database/knex.ts'
import type { Sources } from '../sources/registry.ts'
import { digestOf, installation } from './capture-plan.ts'
import { planInForce } from './plan-store.ts'
import { installPlan } from './put-in-force.ts'

/**
 * Fits the capture to tables that have changed their shape since the plan was put in force: columns that were
 * renamed or retyped go on, coverage of dropped ones ends, and new ones are tracked where the plan says so. Until
 * then the triggers help themselves. To be called while the triggers are those that were installed.
 */
export async function refitCapture(db: Database, sources: Sources, sourceId: number): Promise<void> {
  const tables = await sources.refresh(sourceId)
  const { version, plan, since } = await planInForce(db, sourceId)
  if (version === 0) return
  const added = await newColumns(db, plan, since!)
  if (added.length > 0) {
    const reason = 'New columns, tracked at once as the plan says'
    await installPlan(
      { db, sources, sourceId, tables, reason, by: { personId: null, approverId: null }, clearsDraft: false },
      (_trx, now) => Promise.resolve({ next: withEdits(now, added) }),
    )
    return
  }
  const row = await db('spoor.plan_version')
    .where({ source_id: sourceId, version })
    .first<{ fitted: string | null }>('fitted')
  const work = await installation(db, sourceId, tables, plan, plan, version)
  const fitted = digestOf(work)
  if (row.fitted === fitted) return
  const source = await sources.connection(sourceId)
  if (row.fitted !== null) await installCapture(source, work)
  const { rows } = await source.raw<{ rows: { now: string }[] }>('select clock_timestamp() as now')
  await db.transaction(async (trx) => {
    await trx('spoor.plan_version')
      .where({ source_id: sourceId, version })
      .update({ fitted, installed: JSON.stringify(await readTriggers(source)) })
    await trx('spoor.coverage')
      .whereNull('to_at')
      .whereIn(
        'field_id',
        trx('spoor.field as f')
          .join('spoor.record_type as t', 't.id', 'f.type_id')
          .where('t.source_id', sourceId)
          .where((q) => q.where({ 'f.present': false }).orWhere({ 't.present': false }))
          .select('f.id'),
      )
      .update({ to_at: rows[0]!.now, ended_because: 'the column is not in the source any more' })
  })
}

/** Columns that were added to tracked tables since, where the plan wants them tracked. */
async function newColumns(db: Database, plan: TrackingPlan, since: string): Promise<FieldEdit[]> {
  const wanting = Object.keys(plan.types).filter((typeId) => rulesOf(plan, Number(typeId)).newColumns === 'track')
  if (wanting.length === 0) return []
  const rows = await db('spoor.field')
    .whereIn('type_id', wanting)
    .where({ present: true })
    .where('first_seen_at', '>', since)
    .select<{ id: number; type_id: number }[]>('id', 'type_id')
  return rows
    .filter((row) => keepOf(plan, row.type_id, row.id) === 'off')
    .map((row) => ({ typeId: row.type_id, fieldId: row.id, keep: 'values' }))
}
