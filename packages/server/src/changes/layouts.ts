import type { Layout } from '@spoor/contract'
import type { Database } from '../database/knex.ts'

/** How a person has the columns of lists, by list. */
export async function readLayouts(db: Database, personId: number): Promise<Record<string, Layout>> {
  const rows = await db('spoor.layout')
    .where({ person_id: personId })
    .select<{ list: string; columns: Layout }[]>('list', 'columns')
  return Object.fromEntries(rows.map((row) => [row.list, row.columns]))
}

export async function keepLayout(db: Database, personId: number, list: string, layout: Layout): Promise<void> {
  await db('spoor.layout')
    .insert({ person_id: personId, list, columns: JSON.stringify(layout) })
    .onConflict(['person_id', 'list'])
    .merge()
}
