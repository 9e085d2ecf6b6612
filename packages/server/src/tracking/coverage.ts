import type { TypeCoverage } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { readRates } from './activity.ts'

/** The spells in which each field of a type was tracked, with its latest change and its latest proof. */
export async function readCoverage(db: Database, typeId: number): Promise<TypeCoverage> {
  const type = await db('spoor.record_type').where({ id: typeId }).first<{ source_id: number } | undefined>('source_id')
  if (!type) throw new Problem('not-found', 'There is no such record type.')
  const spells = await db('spoor.coverage as c')
    .join('spoor.field as f', 'f.id', 'c.field_id')
    .where('f.type_id', typeId)
    .orderBy('c.from_at')
    .select<{ field_id: number; from_at: string; to_at: string | null; keep: string; ended_because: string | null }[]>(
      'c.*',
    )
  const latest = await db('ledger.hour_field')
    .where({ type_id: typeId })
    .groupBy('field_id')
    .select<{ field_id: number; last: string }[]>('field_id', db.raw('max(hour) as last'))
  const { rows: proofs } = await db.raw<{ rows: { field_id: number; outcome: string; words: string; at: string }[] }>(
    `select distinct on (f.field_id) f.field_id, f.outcome, f.words, p.at
       from spoor.proof_field f join spoor.proof p on p.id = f.proof_id where f.type_id = ? order by f.field_id, p.id desc`,
    [typeId],
  )
  const rates = await readRates(db, type.source_id)
  const fields = await db('spoor.field')
    .where({ type_id: typeId })
    .orderBy('attribute_number')
    .select<{ id: number }[]>('id')
  const proofOf = new Map(proofs.map(({ field_id, ...proof }) => [field_id, proof]))
  const lastOf = new Map(latest.map((row) => [row.field_id, row.last]))
  return {
    typeId,
    from: spells[0]?.from_at ?? null,
    fields: fields.map(({ id }) => ({
      fieldId: id,
      spells: spells
        .filter((spell) => spell.field_id === id)
        .map((spell) => ({
          from: spell.from_at,
          to: spell.to_at,
          keep: spell.keep,
          endedBecause: spell.ended_because,
        })),
      lastChange: lastOf.get(id) ?? null,
      changesPerDay: rates.fieldChanges.get(id) ?? 0,
      proof: proofOf.get(id) ?? null,
    })),
  }
}
