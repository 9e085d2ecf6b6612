import { compareInstants } from '@spoor/core'
import knex, { type Knex } from 'knex'
import pg from 'pg'

export type Database = Knex

const types = {
  getTypeParser(oid: number, format?: 'text' | 'binary') {
    // Times stay as the server's text, so that microseconds survive: "2026-03-20 16:52:07.123456+00".
    if (oid === 1184) return (text: string) => instantText(text)
    return pg.types.getTypeParser(oid, format as 'text')
  },
}

/** PostgreSQL's text of a timestamptz in UTC as ISO 8601. */
export function instantText(text: string): string {
  return text.replace(' ', 'T').replace(/\+00$/, 'Z')
}

/** Whether one instant of {@link instantText} comes after another. */
export function isAfter(a: string, b: string): boolean {
  return compareInstants(a, b) > 0
}

/** Settings under which every value has one text form, which PostgreSQL reads back as the identical value. */
export const exactSettings = {
  timezone: 'UTC',
  datestyle: 'ISO, YMD',
  intervalstyle: 'postgres',
  bytea_output: 'hex',
  extra_float_digits: '1',
  lc_monetary: 'C',
} as const

/**
 * Statements over monthly partitions look costly to the planner and are short: compiling each of them anew takes
 * hundreds of milliseconds and saves a few.
 */
const ownSettings = { ...exactSettings, jit: 'off' }

const asOptions = (settings: Readonly<Record<string, string>>) =>
  Object.entries(settings)
    .map(([name, value]) => `-c ${name}=${value.replace(/ /g, '\\ ')}`)
    .join(' ')

/**
 * What every connection to Spoor's own database has whatever its role was given: names lead nowhere but to PostgreSQL's
 * own, so that nobody can put other functions or operators before them.
 */
export const ownOptions = asOptions({ search_path: 'pg_catalog, pg_temp' })

const options = asOptions(ownSettings)

const silent = () => undefined

/** Runs SQL with `$1` on a transaction's own connection. */
export type Run = <R>(sql: string, values: readonly unknown[]) => Promise<R[]>
/** What is still to be done in a transaction that is about to be committed; it fails when this fails. */
export type BeforeCommit = (run: Run) => Promise<void>

export interface ConnectOptions {
  applicationName: string
  maxConnections: number
  /** So many stay open while nobody asks: a new one has to learn every month's partitions first. */
  keptConnections?: number
  /** Whether it is Spoor's own database; a source keeps the settings that its triggers count on. */
  own?: boolean
  beforeCommit?: BeforeCommit
}

export function connect(
  url: string,
  { applicationName, maxConnections, keptConnections = 0, own = false, beforeCommit }: ConnectOptions,
): Database {
  const db = knex({
    client: 'pg',
    connection: {
      connectionString: url,
      application_name: applicationName,
      options: own ? `${options} ${ownOptions}` : options,
      types: types as never,
      connectionTimeoutMillis: 5000,
    },
    pool: { min: keptConnections, max: maxConnections, idleTimeoutMillis: 20_000 },
    acquireConnectionTimeout: 15_000,
    // Knex would print whole statements, values included; failures reach the log as errors instead.
    log: { warn: silent, error: silent, deprecate: silent, debug: silent },
  })
  if (beforeCommit) doBeforeCommit(db.client as KnexClient, beforeCommit)
  return db
}

/** What is used of Knex's own objects, which have no types. */
interface KnexTransaction {
  commit(connection: pg.Client, value: unknown): Promise<unknown>
}
interface KnexClient {
  transaction(...args: unknown[]): KnexTransaction
  _query(connection: pg.Client, query: { sql: string }): Promise<unknown>
}

const writes = /^\s*(insert|update|delete|merge|with\b.*\b(insert|update|delete|merge)\b)/is

/** Has something done at the end of each transaction; a statement that writes outside of one gets one of its own. */
function doBeforeCommit(client: KnexClient, beforeCommit: BeforeCommit): void {
  const finish = (connection: pg.Client) =>
    beforeCommit(async (sql, values) => (await connection.query(sql, values as unknown[])).rows as never)
  const transaction = client.transaction.bind(client)
  client.transaction = (...args) => {
    const one = transaction(...args)
    const commit = one.commit.bind(one)
    one.commit = (connection, value) => finish(connection).then(() => commit(connection, value))
    return one
  }
  const query = client._query.bind(client)
  client._query = async (connection, statement) => {
    if (!writes.test(statement.sql)) return await query(connection, statement)
    await connection.query('begin')
    try {
      const answer = await query(connection, statement)
      await finish(connection)
      await connection.query('commit')
      return answer
    } catch (error) {
      await connection.query('rollback').catch(silent)
      throw error
    }
  }
}

/** A list as one bound PostgreSQL array. Knex passes it on whole; its types know only lists of text. */
export function boundArray(values: readonly (string | number | boolean | null)[]): string[] {
  return values as string[]
}
