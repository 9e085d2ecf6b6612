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

/** Whether one instant of {@link instantText} comes after another: the fraction has no trailing zeros, so texts sort. */
export function isAfter(a: string, b: string): boolean {
  return a.length === b.length ? a > b : a.replace('Z', '') > b.replace('Z', '')
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

const options = Object.entries(ownSettings)
  .map(([name, value]) => `-c ${name}=${value.replace(/ /g, '\\ ')}`)
  .join(' ')

const silent = () => undefined

export interface ConnectOptions {
  applicationName: string
  maxConnections: number
  /** So many stay open while nobody asks: a new one has to learn every month's partitions first. */
  keptConnections?: number
}

export function connect(
  url: string,
  { applicationName, maxConnections, keptConnections = 0 }: ConnectOptions,
): Database {
  return knex({
    client: 'pg',
    connection: {
      connectionString: url,
      application_name: applicationName,
      options,
      types: types as never,
      connectionTimeoutMillis: 5000,
    },
    pool: { min: keptConnections, max: maxConnections, idleTimeoutMillis: 20_000 },
    acquireConnectionTimeout: 15_000,
    // Knex would print whole statements, values included; failures reach the log as errors instead.
    log: { warn: silent, error: silent, deprecate: silent, debug: silent },
  })
}

/** A list as one bound PostgreSQL array. Knex passes it on whole; its types know only lists of text. */
export function boundArray(values: readonly (string | number | boolean | null)[]): string[] {
  return values as string[]
}
