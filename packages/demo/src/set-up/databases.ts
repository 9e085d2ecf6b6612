import pg from 'pg'
import { quoteIdentifier as id, quoteLiteral } from '@spoor/server'
import { businessSchemas } from '../larkmere/schema.ts'
import { databaseLogins } from '../larkmere/staff.ts'
import type { LoginName, Secrets } from './secrets.ts'

/** A refusal whose message is all the person needs. */
export class DemoRefusal extends Error {
  override readonly name = 'DemoRefusal'
}

const mark = 'Larkmere, a demo that Spoor made and may drop'

export interface DemoNames {
  business: string
  spoor: string
  role(base: LoginName | 'larkmere_owner'): string
}

/** On a cluster that demos share, each but the usual one has its own names. */
export function demoNames(port: number): DemoNames {
  const suffix = port === 4310 ? '' : `_${port}`
  return { business: `larkmere${suffix}`, spoor: `spoor${suffix}`, role: (base) => `${base}${suffix}` }
}

export function urlOf(clusterUrl: string, database: string, login?: { name: string; password: string }): string {
  const url = new URL(clusterUrl)
  url.pathname = `/${database}`
  if (login) {
    url.username = encodeURIComponent(login.name)
    url.password = encodeURIComponent(login.password)
  }
  return url.href
}

async function onCluster<T>(clusterUrl: string, work: (cluster: pg.Client) => Promise<T>): Promise<T> {
  const cluster = new pg.Client({ connectionString: clusterUrl })
  await cluster.connect()
  try {
    return await work(cluster)
  } finally {
    await cluster.end()
  }
}

/** Makes what is missing of the demo's roles and databases, or, with `afresh`, both databases anew. */
export async function ensureDatabases(
  clusterUrl: string,
  names: DemoNames,
  secrets: Secrets,
  afresh: boolean,
): Promise<void> {
  await onCluster(clusterUrl, async (cluster) => {
    for (const name of [names.business, names.spoor]) await demandOurs(cluster, name)
    if (afresh)
      for (const name of [names.business, names.spoor])
        await cluster.query(`drop database if exists ${id(name)} with (force)`)
    await ensureRole(cluster, names.role('larkmere_owner'), null)
    for (const [base, password] of Object.entries(secrets))
      await ensureRole(cluster, names.role(base as LoginName), password)
    await cluster.query(`grant ${id(names.role('larkmere_owner'))} to ${id(names.role('spoor_source'))}`)
    await ensureDatabase(cluster, names.spoor, names.role('spoor_owner'))
    await ensureDatabase(cluster, names.business, names.role('larkmere_owner'))
    await cluster.query(`grant create on database ${id(names.business)} to ${id(names.role('spoor_source'))}`)
  })
}

/** The loader touches nothing but databases that it made itself, which carry its mark. */
async function demandOurs(cluster: pg.Client, name: string): Promise<void> {
  const { rows } = await cluster.query<{ words: string | null }>(
    `select shobj_description(oid, 'pg_database') as words from pg_database where datname = $1`,
    [name],
  )
  if (!rows[0] || rows[0].words === mark) return
  throw new DemoRefusal(
    `The cluster has a database “${name}” that is not the demo’s. Nothing was touched. Use another cluster, or another SPOOR_PORT, whose demo has other names.`,
  )
}

async function ensureRole(cluster: pg.Client, name: string, password: string | null): Promise<void> {
  const { rowCount } = await cluster.query('select from pg_roles where rolname = $1', [name])
  if (!rowCount) await cluster.query(`create role ${id(name)}`)
  if (password !== null) await cluster.query(`alter role ${id(name)} login password ${quoteLiteral(password)}`)
}

async function ensureDatabase(cluster: pg.Client, name: string, owner: string): Promise<void> {
  const { rowCount } = await cluster.query('select from pg_database where datname = $1', [name])
  if (rowCount) return
  // Marked before it has its name: a stop in between leaves nothing that looks like somebody else's.
  const making = `${name}_in_the_making`
  await cluster.query(`drop database if exists ${id(making)}`)
  await cluster.query(`create database ${id(making)} owner ${id(owner)}`)
  await cluster.query(`comment on database ${id(making)} is ${quoteLiteral(mark)}`)
  await cluster.query(`alter database ${id(making)} rename to ${id(name)}`)
}

/** What Larkmere lets its channels do: everything with its rows, nothing with its tables. */
export function businessGrants(names: DemoNames): string {
  const logins = databaseLogins.map((login) => id(names.role(login))).join(', ')
  return businessSchemas
    .map(
      (schema) =>
        `grant usage on schema ${schema} to ${logins}; grant select, insert, update, delete on all tables in schema ${schema} to ${logins};`,
    )
    .join('\n')
}
