import type { Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { Problem } from '../errors.ts'
import type { Sources } from '../sources/registry.ts'

/**
 * Takes everything of Spoor's out of a source in one transaction: triggers, functions, outbox. The ledger keeps what
 * was captured; coverage ends. Refused while captured rows wait to be collected, since they would be lost.
 */
export async function removeCapture(db: Database, sources: Sources, sourceId: number): Promise<void> {
  const source = await sources.connection(sourceId)
  const endedAt = await source.transaction(async (trx) => {
    await plainQuery(trx, `set local lock_timeout = '3s'`)
    // From here on the business waits for this transaction, so nothing can be captured and lost in between.
    await plainQuery(trx, 'lock table spoor_capture.outbox in access exclusive mode')
    const [row] = await plainQuery<{ waiting: string; now: string }>(
      trx,
      'select count(*)::text as waiting, clock_timestamp() as now from spoor_capture.outbox',
    )
    if (row!.waiting !== '0')
      throw new Problem(
        'source-busy',
        `${row!.waiting} captured rows have not been collected yet. Nothing was removed; let Spoor collect them first.`,
      )
    await plainQuery(trx, 'drop schema spoor_capture cascade')
    return row!.now
  })
  await db.transaction(async (trx) => {
    await trx('spoor.plan_version').where({ source_id: sourceId, state: 'in force' }).update({ state: 'superseded' })
    await trx('spoor.coverage')
      .whereNull('to_at')
      .whereIn(
        'field_id',
        trx('spoor.field as f')
          .join('spoor.record_type as t', 't.id', 'f.type_id')
          .where('t.source_id', sourceId)
          .select('f.id'),
      )
      .update({ to_at: endedAt, ended_because: 'the capture was removed from the source' })
  })
}
