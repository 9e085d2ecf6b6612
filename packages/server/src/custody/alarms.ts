import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'

export type AlarmKind =
  | 'capture-altered'
  | 'source-replaced'
  | 'source-older'
  | 'outbox-altered'
  | 'partition-rows'
  | 'capture-missed'
  | 'capture-untried'

/** Raises an alarm, or leaves one that says the same and is not settled as it is. */
export async function raiseAlarm(db: Database, sourceId: number, kind: AlarmKind, words: string): Promise<void> {
  await db('spoor.alarm')
    .insert({ source_id: sourceId, kind, words })
    .onConflict(['source_id', 'kind', 'words', 'settled_at'])
    .ignore()
}

export async function settleAlarms(db: Knex, sourceId: number, kind: AlarmKind): Promise<void> {
  await db('spoor.alarm').where({ source_id: sourceId, kind, settled_at: null }).update({ settled_at: db.fn.now() })
}
