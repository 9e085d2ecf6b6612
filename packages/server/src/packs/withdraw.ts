import { rm } from 'node:fs/promises'
import { join } from 'node:path'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { recordEvent } from '../ledger/events.ts'

export const packPath = (directory: string, packId: number) => join(directory, `pack-${packId}.zip`)

/** Lets nobody finish a pack while values are erased, nor erase them while one is finished. */
export async function holdPacks(trx: Knex.Transaction): Promise<void> {
  await trx.raw(`select pg_advisory_xact_lock(hashtext('spoor packs'))`)
}

interface Withdrawal {
  personId: number
  why: string
  address?: string | undefined
}

/** Withdraws one that is kept. @returns whether it was */
export async function withdrawPack(
  trx: Knex.Transaction,
  packId: number,
  { personId, why, address }: Withdrawal,
): Promise<boolean> {
  const done = await trx('spoor.pack')
    .where({ id: packId, state: 'kept' })
    .update({ state: 'withdrawn', withdrawn_by: personId, withdrawn_at: trx.fn.now(), withdrawn_why: why })
  if (done > 0) await recordEvent(trx, { kind: 'export', personId, words: `withdrew pack ${packId}`, address })
  return done > 0
}

/** Withdraws every pack that some saves are in; their first pages go as well, since they may tell what was erased. */
export async function withdrawPacksOf(
  trx: Knex.Transaction,
  { saveIds, ...withdrawal }: Withdrawal & { saveIds: readonly string[] },
): Promise<void> {
  const packs = await trx('spoor.pack')
    .where({ state: 'kept' })
    .whereRaw('save_ids && ?::bigint[]', [boundArray(saveIds)])
    .select<{ id: number }[]>('id')
  for (const { id } of packs) await withdrawPack(trx, id, withdrawal)
  await trx('spoor.pack')
    .whereIn(
      'id',
      packs.map(({ id }) => id),
    )
    .update({ cover: null })
}

/** Removes the files of packs that were withdrawn. */
export async function removeWithdrawn(db: Database, directory: string): Promise<void> {
  const packs = await db('spoor.pack').where({ state: 'withdrawn', file_removed: false }).select<{ id: number }[]>('id')
  for (const { id } of packs) {
    await rm(packPath(directory, id), { force: true })
    await db('spoor.pack').where({ id }).update({ file_removed: true })
  }
}
