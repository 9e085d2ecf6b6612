import type { Knex } from 'knex'
import type { Database } from './knex.ts'

const oneState = { isolationLevel: 'repeatable read', readOnly: true } as const

/** Everything as of one moment of the ledger: of one's own, or of the transaction that one is in. */
export const asOfOneMoment = <T>(db: Database, work: (trx: Knex.Transaction) => Promise<T>): Promise<T> =>
  db.isTransaction ? work(db as Knex.Transaction) : db.transaction(work, oneState)
