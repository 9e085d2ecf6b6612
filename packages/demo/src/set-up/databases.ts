import pg from 'pg'
import { quoteIdentifier as id, quoteLiteral } from '@spoor/server'
import { businessSchema, businessSchemas } from '../business/schema.ts'
import { loadFirstData } from '../business/first-data.ts'
import type { Secrets } from './secrets.ts'

/** A refusal whose message is all the person needs. */
export class DemoRefusal extends Error {
  override readonly name = 'DemoRefusal'
}

const mark = 'Larkmere, a demo that Spoor made and may drop'

export interface DemoNames {
  business: string
  spoor: string
  role(base: keyof Secrets | 'larkmere_owner'): string
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

/** Makes what is missing of the demo's roles and databases. @returns whether the business database is new. */
export async function ensureDatabases(
  clusterUrl: string,
  names: DemoNames,
  secrets: Secrets,
  reset: boolean,
): Promise<boolean> {
  const cluster = new pg.Client({ connectionString: clusterUrl })
  await cluster.connect()
  try {
    const existing = await markedDatabase(cluster, names.business)
    if (existing === 'foreign')
      throw new DemoRefusal(
        `The cluster has a database “${names.business}” that is not the demo’s. Nothing was touched. Use another cluster, or another SPOOR_PORT, whose demo has other names.`,
      )
    if (reset)
      for (const database of [names.business, names.spoor])
        await cluster.query(`drop database if exists ${id(database)} with (force)`)
    await ensureRole(cluster, names.role('larkmere_owner'), null)
    for (const [base, password] of Object.entries(secrets))
      await ensureRole(cluster, names.role(base as keyof Secrets), password)
    await cluster.query(`grant ${id(names.role('larkmere_owner'))} to ${id(names.role('spoor_source'))}`)
    await ensureDatabase(cluster, names.spoor, names.role('spoor_owner'))
    return await ensureDatabase(cluster, names.business, names.role('larkmere_owner'))
  } finally {
    await cluster.end()
  }
}

async function markedDatabase(cluster: pg.Client, name: string): Promise<'absent' | 'ours' | 'foreign'> {
  const { rows } = await cluster.query<{ words: string | null }>(
    `select shobj_description(oid, 'pg_database') as words from pg_database where datname = $1`,
    [name],
  )
  if (!rows[0]) return 'absent'
  return rows[0].words === mark || rows[0].words === null ? 'ours' : 'foreign'
}

async function ensureRole(cluster: pg.Client, name: string, password: string | null): Promise<void> {
  const { rowCount } = await cluster.query('select from pg_roles where rolname = $1', [name])
  if (!rowCount) await cluster.query(`create role ${id(name)}`)
  if (password !== null) await cluster.query(`alter role ${id(name)} login password ${quoteLiteral(password)}`)
}

async function ensureDatabase(cluster: pg.Client, name: string, owner: string): Promise<boolean> {
  const { rowCount } = await cluster.query('select from pg_database where datname = $1', [name])
  if (rowCount) return false
  await cluster.query(`create database ${id(name)} owner ${id(owner)}`)
  await cluster.query(`comment on database ${id(name)} is ${quoteLiteral(mark)}`)
  return true
}

/** Makes Larkmere's tables and rows, all or nothing; a half-made one of an earlier try is made again. */
export async function ensureBusiness(businessUrl: string, names: DemoNames): Promise<void> {
  const pool = new pg.Pool({ connectionString: businessUrl, max: 1 })
  try {
    const { rows } = await pool.query<{ there: boolean }>(`select to_regclass('lettings.tenancy') is not null as there`)
    if (rows[0]?.there) return
    await pool.query('begin')
    await pool.query(`set role ${id(names.role('larkmere_owner'))}`)
    await pool.query(businessSchema)
    await loadFirstData(pool)
    await pool.query(grants(names))
    await pool.query('commit')
    await pool.query('reset role')
    await pool.query(`grant create on database ${id(names.business)} to ${id(names.role('spoor_source'))}`)
    await pool.query('analyze')
  } finally {
    await pool.end()
  }
}

function grants(names: DemoNames): string {
  const desk = id(names.role('desk_app'))
  return businessSchemas
    .map(
      (schema) =>
        `grant usage on schema ${schema} to ${desk}; grant select, insert, update, delete on all tables in schema ${schema} to ${desk};`,
    )
    .join('\n')
}
