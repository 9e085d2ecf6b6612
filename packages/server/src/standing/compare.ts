import type { Mismatch } from '../alarms/mismatch.ts'
import type { Database } from '../database/knex.ts'
import { keptLength } from './kept.ts'

const mostFound = 100

/**
 * Values that are said to stand by a save and are not what that save holds. What a save holds is under its seal; what was
 * found is held against its own leaves where it is kept.
 */
const untrue = `
  select s.type_id, s.record_key as key, s.label, f.name as field
    from spoor.standing s cross join lateral jsonb_each(s.vals) v
    left join ledger.change c on c.save_id::text = v.value ->> 2 and c.field_id::text = v.key
    left join spoor.field f on f.id::text = v.key
   where position(':' in v.value ->> 2) = 0
     and (c.save_id is null or v.value ->> 0 is distinct from
       left(case when s.deleted is not null and s.last_save::text = v.value ->> 2 then c.before else c.after end, ?))
   limit ${mostFound}`

/** Holds records as they stand against the saves that they name. */
export async function compareStanding(db: Database): Promise<Mismatch[]> {
  const { rows } = await db.raw<{ rows: { type_id: number; key: string; label: string; field: string | null }[] }>(
    untrue,
    [keptLength],
  )
  return rows.map(({ type_id, key, label, field }) => ({
    place: `standing ${type_id} ${key} ${field}`,
    words: `What is shown of ${label} as it stands is not what its save says (${field ?? 'a field that is not there'}, record type ${type_id}, key ${key}).`,
  }))
}
