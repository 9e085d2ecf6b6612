import { keepOf, rulesOf, type TrackingPlan } from '@spoor/core'
import type { Knex } from 'knex'
import { ask } from '../work/jobs.ts'

/**
 * Asks for what is there of every field whose tracking begins: by a plan, after a gap, or before there was such a thing. A
 * type that declines it is left out.
 */
export async function askForTakings(
  trx: Knex.Transaction,
  sourceId: number,
  { plan, version }: { plan: TrackingPlan; version: number },
  personId: number | null = null,
): Promise<void> {
  const spells = await trx('spoor.coverage as c')
    .join('spoor.field as f', 'f.id', 'c.field_id')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where({ 't.source_id': sourceId, 't.present': true, 'f.present': true, 'c.to_at': null, 'c.taking_id': null })
    .orderBy('f.id')
    .select<{ id: string; field_id: number; type_id: number; plural: string }[]>(
      'c.id',
      'c.field_id',
      'f.type_id',
      't.plural',
    )
  const wanted = spells.filter(
    (one) => keepOf(plan, one.type_id, one.field_id) !== 'off' && rulesOf(plan, one.type_id).asFound === 'take',
  )
  for (const typeId of new Set(wanted.map((one) => one.type_id))) {
    const own = wanted.filter((one) => one.type_id === typeId)
    const fieldIds = own.map((one) => one.field_id)
    const { job, fresh } = await ask(trx, {
      kind: 'taking',
      subject: `type ${typeId} from spell ${own[0]!.id}`,
      words: `Taking in what ${own[0]!.plural} hold as tracking begins`,
      personId,
    })
    if (!fresh) continue
    const [taking] = await trx('spoor.taking')
      .insert({ job_id: job.id, source_id: sourceId, type_id: typeId, plan_version: version, field_ids: fieldIds })
      .returning<{ id: number }[]>('id')
    await trx('spoor.coverage')
      .whereIn(
        'id',
        own.map((one) => one.id),
      )
      .update({ taking_id: taking!.id })
  }
}

/** Somebody wants what is there of a type to be taken in again. */
export async function takeAgain(
  trx: Knex.Transaction,
  typeId: number,
  inForce: { sourceId: number; plan: TrackingPlan; version: number },
  personId: number,
): Promise<void> {
  await trx('spoor.coverage')
    .where({ to_at: null })
    .whereIn('field_id', trx('spoor.field').where({ type_id: typeId }).select('id'))
    .update({ taking_id: null })
  await askForTakings(trx, inForce.sourceId, inForce, personId)
}

/** Those of some fields that a plan still tracks. */
export function stillTracked(plan: TrackingPlan, typeId: number, fieldIds: readonly number[]): number[] {
  return fieldIds.filter((fieldId) => keepOf(plan, typeId, fieldId) !== 'off')
}
