import {
  actsOf,
  groupBy,
  itemPlace,
  placeOfRecord,
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

/** Writes by record, in an order that a source can take. */
export function inOrder(
  { references, keptOf }: Orderly,
  writes: readonly GuardedWrite[],
  { removeFirst }: { removeFirst: boolean },
): RecordAct[] {
  const asked = new Set(writes.map(itemPlace))
  const anew = groupBy(
    writes.filter(({ act }) => act === 'recreate'),
    placeOfRecord,
  )
  // What a deleted record held nothing in, it holds nothing in again, whatever a new row would get there.
  const empty = [...anew.values()]
    .flatMap(([first]) =>
      keptOf(first!).map((fieldId): GuardedWrite => ({ ...first!, fieldId, expected: null, value: null })),
    )
    .filter((write) => !asked.has(itemPlace(write)))
  return actsOf([...writes, ...empty], (typeId) => references.get(typeId) ?? [], { removeFirst })
}

/** Whether there is another order: what goes may hold a value that only one can have, and what is made wants it. */
export const hasOrders = (writes: readonly GuardedWrite[]) =>
  (['recreate', 'remove'] as const).every((wanted) => writes.some(({ act }) => act === wanted))

/** Which fields' values were kept when records were deleted or made; not those that the source works out. */
export async function keptThen(
  db: Knex,
  correctionId: number,
  tables: ReadonlyMap<number, WritableTable>,
): Promise<Orderly['keptOf']> {
  // Of what is made again elsewhere the save is another source's: its fields are those of the same names here.
  const { rows } = await db.raw<{ rows: { typeId: number; key: string; fieldId: number }[] }>(
    `with record as (
       select distinct on (i.type_id, i.record_key) i.type_id, i.record_key, s.type_id as of_type, p.plan #> array['types', s.type_id::text, 'fields'] as fields
         from spoor.correction_item i join ledger.save s on s.id = i.save_id
         join spoor.plan_version p on p.source_id = s.source_id and p.version = s.plan_version
        where i.correction_id = ? and i.act <> 'set' order by i.type_id, i.record_key, i.save_id desc),
     kept as (
       select distinct r.type_id, r.of_type, r.fields, f.id as field_id, here.id as here_id
         from (select distinct type_id, of_type, fields from record) r cross join lateral jsonb_each(r.fields) e
         join spoor.field f on f.id = e.key::int
         join spoor.field here on here.type_id = r.type_id and here.column_name = f.column_name
        where e.value ->> 'keep' = 'values' and (r.type_id <> r.of_type or here.id = f.id))
     select r.type_id as "typeId", r.record_key as key, k.here_id as "fieldId"
       from record r join kept k on k.type_id = r.type_id and k.of_type = r.of_type and k.fields = r.fields`,
    [correctionId],
  )
  const written = rows.filter(({ typeId, fieldId }) => tables.get(typeId)?.fields.get(fieldId)?.generated === false)
  const kept = groupBy(written, placeOfRecord)
  return (record) => (kept.get(placeOfRecord(record)) ?? []).map(({ fieldId }) => fieldId)
}
