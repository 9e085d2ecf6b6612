import type { Database } from '../database/knex.ts'

/** Fields whose values are not shown until they are revealed, by the plans in force now: what was kept before, too. */
export async function maskedFields(db: Database): Promise<ReadonlySet<number>> {
  const { rows } = await db.raw<{ rows: { field_id: number }[] }>(
    `select f.key::int as field_id
       from spoor.plan_version v, jsonb_each(v.plan -> 'types') t, jsonb_each(t.value -> 'fields') f
      where v.state = 'in force' and f.value @> '{"masked": true}'`,
  )
  return new Set(rows.map((row) => row.field_id))
}

/** What stands for a masked value in files. */
export const maskedText = '••••••'

/** What stands for an erased value in files. */
export const erasedText = '[erased]'

/** The fields that are masked, with what stands for their values in files. */
export function closedAs(masked: ReadonlySet<number>) {
  return ({ field_id }: { field_id: number }): string | undefined => (masked.has(field_id) ? maskedText : undefined)
}
