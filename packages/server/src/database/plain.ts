import type { Knex } from 'knex'
import type { Client, QueryResultRow } from 'pg'
import type { Run } from './knex.ts'

/**
 * Runs SQL on the transaction's connection as it stands: generated SQL holds question marks that are not
 * bindings, and an error keeps the server's own words without the statement before them.
 */
export async function plainQuery<R extends QueryResultRow>(
  trx: Knex.Transaction,
  sql: string,
  values?: unknown[],
): Promise<R[]> {
  const client = (await trx.client.acquireConnection()) as Client
  const result = values ? await client.query<R>(sql, values) : await client.query<R>(sql)
  return result.rows
}

/** {@link plainQuery} in one transaction, for what also runs where there is none of Knex's. */
export function runIn(trx: Knex.Transaction): Run {
  return (sql, values) => plainQuery(trx, sql, [...values]) as Promise<never[]>
}
