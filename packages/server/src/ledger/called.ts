import { recordPlace } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'

export interface RecordAt {
  typeId: number
  key: string
}

export interface Called {
  label: string
  /** It was asked of the source so long ago that it may be another by now. */
  old: boolean
}

/**
 * What records are called now, by {@link recordPlace}, where the trail has met or found them or they were asked of their
 * source. One that nothing is known of is not among them.
 */
export async function calledNow(db: Knex, records: readonly RecordAt[]): Promise<Map<string, Called>> {
  if (records.length === 0) return new Map()
  const { rows } = await db.raw<{ rows: ({ type_id: number; record_key: string } & Called)[] }>(
    `select w.type_id, w.record_key, coalesce(r.label, c.label) as label,
            r.label is null and c.read_at < now() - interval '1 hour' as old
       from unnest(?::int[], ?::text[]) as w(type_id, record_key)
       left join spoor.record r using (type_id, record_key)
       left join spoor.called c using (type_id, record_key)
      where r.label is not null or c.label is not null`,
    [boundArray(records.map((one) => one.typeId)), boundArray(records.map((one) => one.key))],
  )
  return new Map(rows.map(({ type_id, record_key, label, old }) => [recordPlace(type_id, record_key), { label, old }]))
}
