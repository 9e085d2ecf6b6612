import type { Database } from '../database/knex.ts'

/** Captured rows that wait to be collected from which on the collector comes first, and for how long at most. */
const backlog = 5000
const longestWayMs = 20_000

/** Whether a follower of the ledger leaves the machine to the collector, while a backlog is collected; never for long. */
export function givesWay(): (db: Database) => Promise<boolean> {
  let gaveWayMs = performance.now()
  return async (db) => {
    const row = await db('ledger.collector_state').max({ waiting: 'waiting' }).first<{ waiting: string | null }>()
    if (Number(row.waiting ?? 0) >= backlog && performance.now() - gaveWayMs <= longestWayMs) return true
    gaveWayMs = performance.now()
    return false
  }
}
