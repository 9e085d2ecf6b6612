import type { Database } from '../database/knex.ts'

/** Each of these actors and those that turned out to be them. */
export async function withAliases(db: Database, actors: readonly number[]): Promise<number[]> {
  if (actors.length === 0) return []
  const rows = await db('spoor.actor')
    .whereIn('same_as', [...actors])
    .select<{ id: number }[]>('id')
  return [...new Set([...actors, ...rows.map((row) => row.id)])]
}
