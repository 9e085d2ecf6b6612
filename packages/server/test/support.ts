import { randomBytes } from 'node:crypto'
import pg from 'pg'
import { pino } from 'pino'
import { inject } from 'vitest'
import type { FieldEdit } from '@spoor/core'
import { Collector } from '../src/collector/collector.ts'
import { connect, type Database } from '../src/database/knex.ts'
import { adoptEvidence } from '../src/evidence/adopt.ts'
import { evidenceKey, sealsFacts } from '../src/evidence/evidence.ts'
import { People } from '../src/people/people.ts'
import { Vault } from '../src/secret.ts'
import { Sources } from '../src/sources/registry.ts'
import type { SignedIn } from '../src/http/bind.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { Watch } from '../src/watch/watch.ts'
import { Work, type JobHandler } from '../src/work/work.ts'
import { asSuperuser, templateName, urlFor, type TestRole } from './names.ts'

export const silentLog = pino({ level: 'silent' })

export interface World {
  db: Database
  sources: Sources
  sourceId: number
  people: People
  admin: SignedIn
  /** The administrator's number. */
  adminId: number
  /** The business database as the application's own login, which may declare an actor. */
  business: pg.Pool
  names: { spoor: string; business: string }
  vault: Vault
  businessAs(role: TestRole): string
  superuserUrl: string
  /** Spoor's own database, as the application. */
  spoorUrl: string
  newCollector(): Collector
  /** One look after the capture. */
  watch(): Promise<void>
  /** Opens Spoor's database as the role that erases. */
  connectEraser(): Database
  /** Collects until nothing waits. */
  collect(): Promise<void>
  close(): Promise<void>
}

/** A Spoor and a business database of one suite's own. `schema` is run as the owner of the business's tables. */
export async function makeWorld(schema: string, vault = new Vault(randomBytes(32))): Promise<World> {
  const clusterUrl = inject('clusterUrl')
  const mark = randomBytes(5).toString('hex')
  const names = { spoor: `spoor_test_s_${mark}`, business: `spoor_test_b_${mark}` }
  await asSuperuser(clusterUrl, async (client) => {
    await client.query('select pg_advisory_lock(4310)') // A template takes one copy at a time.
    await client.query(`create database ${names.spoor} template ${templateName} owner spoor_test_owner`)
    await client.query(`create database ${names.business} owner business_owner`)
    await client.query('select pg_advisory_unlock(4310)')
    await client.query(`grant create on database ${names.business} to spoor_test_source`)
  })
  await asSuperuser(urlFor(clusterUrl, names.business), (client) =>
    client.query('create extension citext; create extension hstore; grant create on schema public to business_owner'),
  )
  await asSuperuser(urlFor(clusterUrl, names.business, 'business_owner'), (client) =>
    client.query(
      `${schema}; grant usage on schema public to business_app, stranger; grant all on all tables in schema public to business_app, stranger`,
    ),
  )
  const spoorUrl = urlFor(clusterUrl, names.spoor, 'spoor_test_app')
  const db = connect(spoorUrl, {
    applicationName: 'spoor test',
    maxConnections: 10,
    own: true,
    beforeCommit: sealsFacts(vault),
  })
  await adoptEvidence(db, evidenceKey(vault))
  const sources = new Sources(db, vault)
  const sourceId = await sources.add({
    name: 'business',
    url: urlFor(clusterUrl, names.business, 'spoor_test_source'),
    declaringLogins: ['business_app'],
  })
  const people = new People(db)
  await people.add({ login: 'ada', name: 'Ada Admin', role: 'administrator', password: 'password of ada' })
  const admin = await people.authenticate('ada', 'password of ada')
  const business = new pg.Pool({
    connectionString: urlFor(clusterUrl, names.business, 'business_app'),
    max: 10,
    options: '-c timezone=UTC',
  })
  const newCollector = () =>
    new Collector(sourceId, {
      db,
      sources,
      log: silentLog,
      fingerprintKey: vault.derive('fingerprint'),
      everyMs: 20,
      floorEveryMs: 0,
      onCollected: () => undefined,
    })
  const collector = newCollector()
  const watch = new Watch(sourceId, { db, sources, log: silentLog })
  return {
    db,
    sources,
    sourceId,
    people,
    admin: admin!,
    adminId: admin!.id,
    business,
    names,
    vault,
    businessAs: (role) => urlFor(clusterUrl, names.business, role),
    superuserUrl: urlFor(clusterUrl, names.business),
    spoorUrl,
    newCollector,
    watch: () => watch.look(),
    connectEraser: () =>
      connect(urlFor(clusterUrl, names.spoor, 'spoor_test_eraser'), {
        applicationName: 'spoor test',
        maxConnections: 1,
        own: true,
        beforeCommit: sealsFacts(vault),
      }),
    collect: async () => {
      while ((await collector.collectOnce()) > 0);
    },
    close: async () => {
      await business.end()
      await sources.close()
      await db.destroy()
      await asSuperuser(clusterUrl, async (client) => {
        for (const name of Object.values(names)) await client.query(`drop database ${name} with (force)`)
      })
    },
  }
}

/** Does the long work that waits, here and now. */
export async function workOnce(world: World, ...handlers: JobHandler[]): Promise<void> {
  const work = new Work({ db: world.db, databaseUrl: world.spoorUrl, log: silentLog, handlers })
  await work.once().finally(() => work.stop())
}

/** The address of a world's ledger, for a process of its own. */
export function spoorUrlOf(world: World, role: TestRole): string {
  const url = new URL(world.businessAs(role))
  url.pathname = `/${world.names.spoor}`
  return url.href
}

/** Tracks columns by name, e.g. `{ tenancy: ['rent', 'deposit'] }`; `'*'` is every column. */
export async function track(
  world: World,
  wanted: Readonly<Record<string, readonly string[] | '*'>>,
  keep: FieldEdit['keep'] = 'values',
): Promise<number> {
  await world.sources.refresh(world.sourceId)
  const fields: { id: number; type_id: number; column_name: string; table_name: string }[] = await world
    .db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where({ 't.source_id': world.sourceId, 'f.present': true })
    .select('f.id', 'f.type_id', 'f.column_name', 't.table_name')
  const edits = fields
    .filter(({ table_name, column_name }) => wanted[table_name] === '*' || wanted[table_name]?.includes(column_name))
    .map(({ id, type_id }) => ({ typeId: type_id, fieldId: id, keep }))
  const draft = await readDraft(world.db, world.sourceId)
  await stageDraft(world.db, world.sourceId, draft.revision, edits, world.adminId)
  return await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'tracked by a test', world.admin)
}

/** A value as its type's output function writes it, which is what the ledger holds; of a boolean the word. */
export function asWritten(expression: string, boolean = false): string {
  return boolean
    ? `${expression}::text`
    : `case when ${expression} is distinct from null then format('%s', ${expression}) end`
}

export interface LedgerEntry {
  id: string
  key: string
  keyBefore: string | null
  action: string
  actor: string
  kind: string
  claimed: boolean
  reason: string | null
  channel: string
  values: Record<string, [string | null, string | null]>
}

/** The whole ledger in order, fields by column name. */
export async function ledger(world: World): Promise<LedgerEntry[]> {
  const { rows } = await world.db.raw<{ rows: LedgerEntry[] }>(`
    select s.id, s.record_key as key, s.key_before as "keyBefore", s.action, a.name as actor, s.actor_kind as kind, s.claimed, s.reason, s.channel,
      coalesce((select json_object_agg(f.column_name, json_build_array(c.before, c.after)) from ledger.change c join spoor.field f on f.id = c.field_id
                 where c.save_id = s.id and c.captured_at = s.captured_at), '{}') as values
    from ledger.save s join spoor.actor a on a.id = s.actor_id order by s.id`)
  return rows
}
