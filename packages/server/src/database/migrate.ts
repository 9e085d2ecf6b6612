import type { Knex } from 'knex'
import { connect, type Database } from './knex.ts'
import { quoteIdentifier } from './identifier.ts'
import { up as foundation } from './migrations/001-foundation.ts'
import { up as directory } from './migrations/002-directory.ts'
import { up as runsAndWatching } from './migrations/003-runs-and-watching.ts'
import { up as settingUp } from './migrations/004-setting-up.ts'
import { up as finding } from './migrations/005-finding.ts'
import { up as noticing } from './migrations/006-noticing.ts'
import { up as sealing } from './migrations/007-sealing.ts'

/** Numbered and only ever added to. */
const migrations: Readonly<Record<string, (db: Knex) => Promise<void>>> = {
  '001-foundation': foundation,
  '002-directory': directory,
  '003-runs-and-watching': runsAndWatching,
  '004-setting-up': settingUp,
  '005-finding': finding,
  '006-noticing': noticing,
  '007-sealing': sealing,
}

const source: Knex.MigrationSource<string> = {
  getMigrations: () => Promise.resolve(Object.keys(migrations)),
  getMigrationName: (name) => name,
  getMigration: (name) =>
    Promise.resolve({ up: migrations[name]!, down: () => Promise.reject(new Error('migrations only go forward')) }),
}

/** Brings the schema up to date as its owner and gives the application's role what it needs and no more. */
export async function migrate(ownerUrl: string, applicationRole: string): Promise<void> {
  const db = connect(ownerUrl, { applicationName: 'spoor migration', maxConnections: 2 })
  try {
    await db.migrate.latest({ migrationSource: source, tableName: 'spoor_migration' })
    await grant(db, applicationRole)
  } finally {
    await db.destroy()
  }
}

async function grant(db: Database, role: string): Promise<void> {
  const name = quoteIdentifier(role)
  const { rows } = await db.raw<{ rows: { owner: boolean }[] }>('select current_user = ? as owner', [role])
  if (rows[0]?.owner) return
  await db.raw(`
    grant usage on schema ledger, spoor to ${name};
    grant select, insert, update, delete on all tables in schema spoor to ${name};
    grant usage on all sequences in schema spoor to ${name};
    grant select, insert on ledger.save, ledger.change, ledger.set_aside, ledger.event, ledger.node, ledger.seal, ledger.signing_key to ${name};
    grant select on ledger.sealing to ${name};
    grant select, update on ledger.head to ${name};
    grant select, insert, update on ledger.collector_state, ledger.run, ledger.hour_field, ledger.hour_actor, ledger.hour_kind to ${name};
    grant usage on all sequences in schema ledger to ${name};
    grant execute on function ledger.ensure_month(date) to ${name};
  `)
}
