import type { Database } from '../database/knex.ts'

/** What tells this Spoor's captures from another's. */
export async function ownInstallation(db: Database): Promise<string> {
  const row = await db('spoor.setting').where({ name: 'installation' }).first<{ value: string }>('value')
  return row.value
}
