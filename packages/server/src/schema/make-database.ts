import { existsSync, mkdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import * as v from 'valibot'
import { quoteIdentifier as id, quoteLiteral } from '../database/identifier.ts'
import { connect } from '../database/knex.ts'
import { newPassword, verifierOf } from '../database/password.ts'
import { plainQuery } from '../database/plain.ts'

/** By which addresses Spoor comes to its own database, as its three roles. */
const Addresses = v.object({ databaseUrl: v.string(), ownerDatabaseUrl: v.string(), erasureDatabaseUrl: v.string() })
export type Addresses = v.InferOutput<typeof Addresses>

const database = 'spoor'
const roles = { ownerDatabaseUrl: 'spoor_owner', databaseUrl: 'spoor_app', erasureDatabaseUrl: 'spoor_eraser' } as const

const placeOf = (dataDir: string) => join(dataDir, 'addresses.json')

/** The addresses of a database that {@link makeDatabase} made; null where it made none. */
export function keptAddresses(dataDir: string): Addresses | null {
  if (!existsSync(placeOf(dataDir))) return null
  return v.parse(Addresses, JSON.parse(readFileSync(placeOf(dataDir), 'utf8')))
}

/**
 * Makes Spoor's own database and its three roles by a superuser's address, which is used this once, and keeps the addresses
 * of the roles in the data directory, for its owner's eyes alone. What is there already is left alone.
 * @throws Error in words when something of these names is there, or the server refuses; nothing is made then
 */
export async function makeDatabase(superuserUrl: string, dataDir: string): Promise<Addresses> {
  const passwords = new Map(Object.values(roles).map((name) => [name, newPassword()]))
  const addresses = Object.fromEntries(
    Object.entries(roles).map(([which, role]) => {
      const url = new URL(superuserUrl)
      url.username = role
      url.password = passwords.get(role)!
      url.pathname = `/${database}`
      return [which, url.href]
    }),
  ) as Addresses
  const draft = `${placeOf(dataDir)}.new`
  mkdirSync(dataDir, { recursive: true, mode: 0o700 })
  writeFileSync(draft, `${JSON.stringify(addresses, null, 2)}\n`, { mode: 0o600 })
  try {
    await makeIt(superuserUrl, passwords)
  } catch (error) {
    rmSync(draft)
    throw error
  }
  renameSync(draft, placeOf(dataDir))
  return addresses
}

async function makeIt(superuserUrl: string, passwords: ReadonlyMap<string, string>): Promise<void> {
  const names = [...passwords.keys()]
  const server = connect(superuserUrl, { applicationName: 'spoor set-up', maxConnections: 1 })
  try {
    const { rows } = await server.raw<{ rows: { what: string }[] }>(
      `select 'the role ' || rolname as what from pg_roles where rolname = any(?)
       union all select 'the database ' || datname from pg_database where datname = ?`,
      [names, database],
    )
    if (rows.length > 0)
      throw new Error(
        `${rows.map((row) => row.what).join(', ')} is there already. Nothing was made. Say its address as SPOOR_DATABASE_URL (see “Configuration” in README.md), or remove it first.`,
      )
    await server.transaction(async (trx) => {
      for (const [name, password] of passwords)
        await plainQuery(trx, `create role ${id(name)} login password ${quoteLiteral(verifierOf(password))}`)
    })
    try {
      await server.raw(`create database ${id(database)} owner ${id(roles.ownerDatabaseUrl)} template template0`)
    } catch (error) {
      for (const name of names) await server.raw(`drop role ${id(name)}`)
      throw error
    }
  } finally {
    await server.destroy()
  }
}
