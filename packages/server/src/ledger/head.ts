import type { Database } from '../database/knex.ts'

/** The number of the last save of the ledger. */
export async function lastSave(db: Database): Promise<string> {
  const { last_save_id } = await db('ledger.head').first<{ last_save_id: string }>('last_save_id')
  return last_save_id
}
