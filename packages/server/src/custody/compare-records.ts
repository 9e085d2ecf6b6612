import type { Database } from '../database/knex.ts'
import type { Mismatch } from '../alarms/mismatch.ts'

const mostFound = 100

/**
 * The label of each record and whether it was deleted, as lists show them, with what the latest save of it says. A save
 * that took a record's key away ends the record of the old key, unless another came to that key by the same statement. A
 * record without a save is called as it was found.
 */
const records = `
  with latest as (select type_id, record_key as key, max(id) as id from ledger.save group by 1, 2),
       left_by as (select type_id, key_before as key, max(id) as id from ledger.save where key_before is not null group by 1, 2),
       ends as (select type_id, key, l.id as own_id, g.id as gone_id from latest l full join left_by g using (type_id, key)),
       expected as (
         select e.type_id, e.key, case when went then gone.label else own.label end as label, went or own.action = 'delete' as deleted
           from ends e left join ledger.save own on own.id = e.own_id left join ledger.save gone on gone.id = e.gone_id
           cross join lateral (
             select own.id is null or coalesce(gone.id > own.id and (gone.transaction_id, gone.captured_at) <> (own.transaction_id, own.captured_at), false) as went) w
         union all
         (select distinct on (f.type_id, f.record_key) f.type_id, f.record_key, f.label, false
           from ledger.found f left join ends e on e.type_id = f.type_id and e.key = f.record_key where e.key is null order by f.type_id, f.record_key, f.taking_id))
  select coalesce(e.type_id, r.type_id) as type_id, coalesce(e.key, r.record_key) as key
    from expected e full join spoor.record r on r.type_id = e.type_id and r.record_key = e.key
   where (r.label, r.deleted) is distinct from (e.label, e.deleted)
   limit ${mostFound}`

/** Holds how records are named in lists against their saves, which are sealed. */
export async function compareRecords(db: Database): Promise<Mismatch[]> {
  const { rows } = await db.raw<{ rows: { type_id: number; key: string }[] }>(records)
  return rows.map(({ type_id, key }) => ({
    place: `record ${type_id} ${key}`,
    words: `How a record is called in lists, or that it was deleted, is not what its latest save says (record type ${type_id}, key ${key}).`,
  }))
}
