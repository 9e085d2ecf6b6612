import { mkdtempSync, readdirSync, readFileSync, rmSync, statSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, expect, inject, it } from 'vitest'
import { readConfig } from '../src/config.ts'
import { connect } from '../src/database/knex.ts'
import { keptAddresses, makeDatabase } from '../src/schema/make-database.ts'
import { migrate, rolesOf } from '../src/schema/migrate.ts'
import { asSuperuser } from './names.ts'

const clusterUrl = inject('clusterUrl')
const made = ['spoor_owner', 'spoor_app', 'spoor_eraser']
let dataDir: string

async function remove(): Promise<void> {
  await asSuperuser(clusterUrl, async (client) => {
    await client.query('drop database if exists spoor with (force)')
    for (const role of made) await client.query(`drop role if exists ${role}`)
  })
}

beforeAll(() => {
  dataDir = join(mkdtempSync(join(tmpdir(), 'spoor-first-')), 'data')
})
afterAll(async () => {
  rmSync(join(dataDir, '..'), { recursive: true })
  await remove()
})

const there = async () =>
  await asSuperuser(clusterUrl, async (client) => {
    const { rows } = await client.query<{ name: string }>(
      `select rolname as name from pg_roles where rolname = any($1) union all select datname from pg_database where datname = 'spoor' order by 1`,
      [made],
    )
    return rows.map((row) => row.name)
  })

it('makes nothing where something of a name is there already, and says what to do', async () => {
  await asSuperuser(clusterUrl, (client) => client.query('create role spoor_eraser'))
  await expect(makeDatabase(clusterUrl, dataDir)).rejects.toThrow(
    'the role spoor_eraser is there already. Nothing was made. Say its address as SPOOR_DATABASE_URL',
  )
  expect(keptAddresses(dataDir)).toBeNull()
  expect(readdirSync(dataDir), 'no password is left behind').toEqual([])
  expect(await there()).toEqual(['spoor_eraser'])
  await remove()
})

it('makes a database and three roles that are known by their passwords alone, kept for one pair of eyes', async () => {
  const addresses = await makeDatabase(clusterUrl, dataDir)
  expect(await there()).toEqual(['spoor', ...made].sort())
  expect(keptAddresses(dataDir)).toEqual(addresses)
  expect(readdirSync(dataDir)).toEqual(['addresses.json'])
  expect(statSync(join(dataDir, 'addresses.json')).mode & 0o777).toBe(0o600)
  const superusers = new URL(clusterUrl).password
  expect(readFileSync(join(dataDir, 'addresses.json'), 'utf8')).not.toContain(superusers)
  // The whole schema can be made and worked with by them.
  await migrate(addresses.ownerDatabaseUrl, rolesOf(addresses))
  const application = connect(addresses.databaseUrl, { applicationName: 'test', maxConnections: 1, own: true })
  expect(await application('spoor.person').first()).toBeUndefined()
  await expect(application.raw('delete from ledger.save')).rejects.toThrow('permission denied')
  await application.destroy()
  const wrong = new URL(addresses.databaseUrl)
  wrong.password = 'another'
  const stranger = connect(wrong.href, { applicationName: 'test', maxConnections: 1 })
  await expect(stranger.raw('select 1')).rejects.toThrow('password authentication failed')
  await stranger.destroy()
})

it('says how to begin where nobody said where the database is', () => {
  expect(() => readConfig({})).toThrow(/SPOOR_DATABASE_URL is not set.*SPOOR_MAKE_DATABASE_WITH=/s)
  expect(() => readConfig({ SPOOR_DATABASE_URL: 'mysql://x' })).toThrow(/^(?!.*SPOOR_MAKE_DATABASE_WITH)/s)
})
