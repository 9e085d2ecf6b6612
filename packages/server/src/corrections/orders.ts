import {
  actsOf,
  groupBy,
  itemPlace,
  type FieldPlan,
  type GuardedWrite,
  type RecordAct,
  type Reference,
} from '@spoor/core'
import type { Knex } from 'knex'
import type { WritableTable } from './source-writer.ts'

/** What it takes to bring writes into an order. */
export interface Orderly {
  references: ReadonlyMap<number, readonly Reference[]>
  /** Of records to be made anew or removed, the fields whose values were kept when they were deleted or made. */
  keptOf: (item: { typeId: number; key: string }) => readonly number[]
}

/**
 * Writes by record in an order the source can take them, and where records are both made anew and removed in another: what goes
 * may hold a value that only one can have.
 */
export function ordersOf(
  { references, keptOf }: Orderly,
  writes: readonly GuardedWrite[],
): [RecordAct[], RecordAct[] | null] {
  const asked = new Set(writes.map(itemPlace))
  // What a deleted record held nothing in, it holds nothing in again, whatever a new row would get there.
  const empty = [
    ...groupBy(
      writes.filter(({ act }) => act === 'recreate'),
      ({ typeId, key }) => `${typeId}/${key}`,
    ).values(),
  ]
    .flatMap(([first]) =>
      keptOf(first!).map((fieldId): GuardedWrite => ({ ...first!, fieldId, expected: null, value: null })),
    )
    .filter((write) => !asked.has(itemPlace(write)))
  const all = [...writes, ...empty]
  const of = (typeId: number) => references.get(typeId) ?? []
  const both = (['recreate', 'remove'] as const).every((wanted) => writes.some(({ act }) => act === wanted))
  return [actsOf(all, of), both ? actsOf(all, of, { removeFirst: true }) : null]
}

/** Which fields' values were kept when records were deleted or made; not those that the source works out. */
export async function keptThen(
  db: Knex,
  correctionId: number,
  tables: ReadonlyMap<number, WritableTable>,
): Promise<Orderly['keptOf']> {
  const { rows } = await db.raw<{ rows: { typeId: number; key: string; fields: Record<string, FieldPlan> }[] }>(
    `select distinct on (i.type_id, i.record_key) i.type_id as "typeId", i.record_key as key,
            p.plan #> array['types', i.type_id::text, 'fields'] as fields
       from spoor.correction_item i join ledger.save s on s.id = i.save_id
       join spoor.plan_version p on p.source_id = s.source_id and p.version = s.plan_version
      where i.correction_id = ? and i.act <> 'set' order by i.type_id, i.record_key, i.save_id desc`,
    [correctionId],
  )
  const kept = new Map(
    rows.map(({ typeId, key, fields }) => [
      `${typeId}/${key}`,
      Object.entries(fields).flatMap(([id, { keep }]) =>
        keep === 'values' && tables.get(typeId)?.fields.get(Number(id))?.generated === false ? [Number(id)] : [],
      ),
    ]),
  )
  return ({ typeId, key }) => kept.get(`${typeId}/${key}`) ?? []
}
