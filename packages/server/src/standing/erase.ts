import type { ErasedFound } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'

/** Keeps the follower from reading on until the transaction ends, so that it never keeps what was read before. */
export async function holdStanding(trx: Knex.Transaction): Promise<void> {
  await trx('spoor.standing_read').forUpdate().first('read_save')
}

/** Takes values that were erased out of how records stand, under whatever key. Works as the role that erases. */
export async function eraseStanding(
  trx: Knex.Transaction,
  { type_id: typeId, field_id: fieldId }: { type_id: number; field_id: number },
  saves: readonly string[],
  found: readonly ErasedFound[],
): Promise<void> {
  const by = [...saves, ...found.map(({ taking, place }) => `${taking}:${place}`)]
  await trx.raw(
    `update spoor.standing
        set vals = jsonb_set(vals, array[?::text], jsonb_build_array(null, vals -> ?::text -> 1, vals -> ?::text -> 2, 'erased'))
      where type_id = ? and vals -> ?::text ->> 2 = any(?::text[])`,
    [String(fieldId), String(fieldId), String(fieldId), typeId, String(fieldId), boundArray(by)],
  )
}
