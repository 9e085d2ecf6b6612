import { randomBytes } from 'node:crypto'
import pg from 'pg'
import { connect } from '../packages/server/dist/database/knex.js'
import { migrate } from '../packages/server/dist/schema/migrate.js'
import { adoptEvidence } from '../packages/server/dist/evidence/adopt.js'
import { evidenceKey, sealsFacts } from '../packages/server/dist/evidence/evidence.js'
import { Vault } from '../packages/server/dist/secret.js'
import { Sources } from '../packages/server/dist/sources/registry.js'
import { People } from '../packages/server/dist/people/people.js'
import { Collector } from '../packages/server/dist/collector/collector.js'
import { readDraft, stageDraft } from '../packages/server/dist/tracking/plan-store.js'
import { putInForce } from '../packages/server/dist/tracking/put-in-force.js'
import { pino } from 'pino'

export const silent = pino({ level: 'silent' })

/** A Spoor and a business database on the benchmark's cluster; both are dropped when it is closed. */
export async function makeWorld(cluster, schema, vault = new Vault(randomBytes(32))) {
  const mark = randomBytes(4).toString('hex')
  const admin = new pg.Client({ connectionString: cluster.url('postgres') })
  await admin.connect()
  const names = { spoor: `bench_spoor_${mark}`, business: `bench_business_${mark}` }
  for (const name of Object.values(names)) await admin.query(`create database ${name}`)
  const businessUrl = cluster.url(names.business)
  const spoorUrl = cluster.url(names.spoor)
  const business = new pg.Pool({ connectionString: businessUrl, max: 12 })
  await business.query(schema)
  const role = decodeURIComponent(new URL(spoorUrl).username)
  await migrate(spoorUrl, { application: role, erasure: role })
  const db = connect(spoorUrl, {
    applicationName: 'bench',
    maxConnections: 6,
    own: true,
    beforeCommit: sealsFacts(vault),
  })
  await adoptEvidence(db, evidenceKey(vault))
  const sources = new Sources(db, vault)
  const sourceId = await sources.add({ name: 'bench', url: businessUrl, declaringLogins: [] })
  const people = new People(db)
  await people.add({ login: 'bench', name: 'Bench', role: 'administrator', password: randomBytes(12).toString('hex') })
  const person = await people.byLogin('bench')
  const newCollector = (everyMs = 100) =>
    new Collector(sourceId, {
      db,
      sources,
      log: pino({ level: 'error' }),
      fingerprintKey: vault.derive('fingerprint'),
      everyMs,
      onCollected: () => undefined,
    })
  return {
    db,
    sources,
    people,
    person,
    vault,
    business,
    businessUrl,
    spoorUrl,
    newCollector,
    /** Collects until nothing waits. */
    async collect() {
      const collector = newCollector()
      while ((await collector.collectOnce()) > 0);
    },
    /** Gives the connections up, for a test that is about to break them. */
    async letGo() {
      await business.end()
      await sources.close()
      await db.destroy()
      await admin.end()
    },
    /** Tracks columns by table name. */
    async track(wanted, rule = {}) {
      await sources.refresh(sourceId)
      const fields = await db('spoor.field as f')
        .join('spoor.record_type as t', 't.id', 'f.type_id')
        .select('f.id', 'f.type_id', 'f.column_name', 't.table_name')
      const edits = fields
        .filter((f) => wanted[f.table_name]?.includes(f.column_name))
        .map((f) => ({ typeId: f.type_id, fieldId: f.id, keep: 'values' }))
      const types = [...new Set(edits.map((edit) => edit.typeId))]
      if (Object.keys(rule).length > 0) edits.push(...types.map((typeId) => ({ typeId, ...rule })))
      const { revision } = await readDraft(db, sourceId)
      await stageDraft(db, sourceId, revision, edits, person.id)
      await putInForce(db, sources, sourceId, revision + 1, 'benchmark', person)
    },
    async close() {
      await business.end()
      await sources.close()
      await db.destroy()
      for (const name of Object.values(names)) await admin.query(`drop database ${name} with (force)`)
      await admin.end()
    },
  }
}

export function median(values) {
  const sorted = [...values].sort((a, b) => a - b)
  return sorted[Math.floor(sorted.length / 2)]
}

export async function timed(work) {
  const start = performance.now()
  await work()
  return performance.now() - start
}
