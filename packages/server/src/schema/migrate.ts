import type { Knex } from 'knex'
import { connect, type Database } from '../database/knex.ts'
import { quoteIdentifier } from '../database/identifier.ts'
import { up as foundation } from './migrations/001-foundation.ts'
import { up as directory } from './migrations/002-directory.ts'
import { up as runsAndWatching } from './migrations/003-runs-and-watching.ts'
import { up as settingUp } from './migrations/004-setting-up.ts'
import { up as finding } from './migrations/005-finding.ts'
import { up as noticing } from './migrations/006-noticing.ts'
import { up as sealing } from './migrations/007-sealing.ts'
import { up as erasure } from './migrations/008-erasure.ts'
import { up as layouts } from './migrations/009-layouts.ts'
import { up as digests } from './migrations/010-digests.ts'
import { up as keysBefore } from './migrations/011-keys-before.ts'
import { up as evidence } from './migrations/012-evidence.ts'
import { up as work } from './migrations/013-work.ts'
import { up as alarms } from './migrations/014-alarms.ts'
import { up as found } from './migrations/015-found.ts'
import { up as applying } from './migrations/016-applying.ts'
import { up as standing } from './migrations/017-standing.ts'
import { up as months } from './migrations/018-months.ts'
import { up as watch } from './migrations/019-watch.ts'
import { up as readerZone } from './migrations/020-reader-zone.ts'
import { up as called } from './migrations/021-called.ts'
import { up as findingRecords } from './migrations/022-finding-records.ts'
import { up as corrections } from './migrations/023-corrections.ts'
import { up as reconciling } from './migrations/024-reconciling.ts'
import { up as baselines } from './migrations/025-baselines.ts'
import { up as pages } from './migrations/026-pages.ts'
import { up as panel } from './migrations/027-panel.ts'
import { up as acts } from './migrations/028-acts.ts'
import { up as packs } from './migrations/029-packs.ts'
import { up as cases } from './migrations/030-cases.ts'
import { up as witnesses } from './migrations/031-witnesses.ts'
import { up as watches } from './migrations/032-watches.ts'
import { up as guards } from './migrations/033-guards.ts'
import { up as workedOut } from './migrations/035-worked-out.ts'
import { up as held } from './migrations/036-held.ts'
import { up as lives } from './migrations/037-lives.ts'
import { up as piecemeal } from './migrations/038-piecemeal.ts'
import { up as watchedMore } from './migrations/039-watched-more.ts'
import { up as regularPacks } from './migrations/040-regular-packs.ts'
import { up as toldOnce } from './migrations/041-told-once.ts'
import { up as packBeside } from './migrations/042-pack-beside.ts'
import { up as livesInNumbers } from './migrations/043-lives-in-numbers.ts'
import { up as answers } from './migrations/044-answers.ts'
import { up as blackedScopes } from './migrations/045-blacked-scopes.ts'
import { up as monthlyCounts } from './migrations/046-monthly-counts.ts'
import { up as knownOpenings } from './migrations/034-known-openings.ts'
import { migrateQueue } from '../work/queue.ts'
import { ensureTouchTriggers } from '../evidence/triggers.ts'

/** Numbered and only ever added to. */
const migrations: Readonly<Record<string, (db: Knex) => Promise<void>>> = {
  '001-foundation': foundation,
  '002-directory': directory,
  '003-runs-and-watching': runsAndWatching,
  '004-setting-up': settingUp,
  '005-finding': finding,
  '006-noticing': noticing,
  '007-sealing': sealing,
  '008-erasure': erasure,
  '009-layouts': layouts,
  '010-digests': digests,
  '011-keys-before': keysBefore,
  '012-evidence': evidence,
  '013-work': work,
  '014-alarms': alarms,
  '015-found': found,
  '016-applying': applying,
  '017-standing': standing,
  '018-months': months,
  '019-watch': watch,
  '020-reader-zone': readerZone,
  '021-called': called,
  '022-finding-records': findingRecords,
  '023-corrections': corrections,
  '024-reconciling': reconciling,
  '025-baselines': baselines,
  '026-pages': pages,
  '027-panel': panel,
  '028-acts': acts,
  '029-packs': packs,
  '030-cases': cases,
  '031-witnesses': witnesses,
  '032-watches': watches,
  '033-guards': guards,
  '034-known-openings': knownOpenings,
  '035-worked-out': workedOut,
  '036-held': held,
  '037-lives': lives,
  '038-piecemeal': piecemeal,
  '039-watched-more': watchedMore,
  '040-regular-packs': regularPacks,
  '041-told-once': toldOnce,
  '042-pack-beside': packBeside,
  '043-lives-in-numbers': livesInNumbers,
  '044-answers': answers,
  '045-blacked-scopes': blackedScopes,
  '046-monthly-counts': monthlyCounts,
}

const source: Knex.MigrationSource<string> = {
  getMigrations: () => Promise.resolve(Object.keys(migrations)),
  getMigrationName: (name) => name,
  getMigration: (name) =>
    Promise.resolve({ up: migrations[name]!, down: () => Promise.reject(new Error('migrations only go forward')) }),
}

/** Roles besides the owner of the schema; each may be the owner itself. */
export interface Roles {
  /** What the application works as. */
  application: string
  /** What erases values, and does nothing else. */
  erasure: string
}

export function rolesOf({
  databaseUrl,
  erasureDatabaseUrl,
}: {
  databaseUrl: string
  erasureDatabaseUrl: string
}): Roles {
  const roleOf = (url: string) => decodeURIComponent(new URL(url).username)
  return { application: roleOf(databaseUrl), erasure: roleOf(erasureDatabaseUrl) }
}

/** Brings the schema up to date as its owner and gives the other roles what they need and no more. */
export async function migrate(ownerUrl: string, { application, erasure }: Roles): Promise<void> {
  const db = connect(ownerUrl, { applicationName: 'spoor migration', maxConnections: 2 })
  try {
    await db.migrate.latest({ migrationSource: source, tableName: 'spoor_migration' })
    await ensureTouchTriggers(db)
    await migrateQueue(ownerUrl, application)
    for (const [role, rights] of [
      [application, applicationRights],
      [erasure, erasureRights],
    ] as const)
      await grant(db, role, rights)
  } finally {
    await db.destroy()
  }
}

async function grant(db: Database, role: string, rights: readonly string[]): Promise<void> {
  const { rows } = await db.raw<{ rows: { owner: boolean }[] }>('select current_user = ? as owner', [role])
  if (rows[0]?.owner) return
  for (const right of rights) await db.raw(`grant ${right} to ${quoteIdentifier(role)}`)
}

const applicationRights = [
  'usage on schema ledger, spoor, work',
  'select, insert, update, delete on all tables in schema spoor, work',
  'usage on all sequences in schema work',
  'usage on all sequences in schema spoor',
  'select, insert on ledger.save, ledger.change, ledger.set_aside, ledger.event, ledger.node, ledger.seal, ledger.signing_key, ledger.found',
  'select on ledger.sealing, ledger.erased, ledger.erased_found',
  'select, update on ledger.head',
  'select, insert, update on ledger.collector_state, ledger.run, ledger.hour_field, ledger.hour_actor, ledger.hour_kind, ledger.month_actor',
  'usage on all sequences in schema ledger',
  'execute on function ledger.ensure_month(date)',
]

const erasureRights = [
  'usage on schema ledger, spoor',
  'select on ledger.save, ledger.change, ledger.found, spoor.taking, spoor.person, spoor.field',
  'update (before, after, salt, rise, rise_share, erased) on ledger.change',
  'update (vals, salt, kept) on ledger.found',
  'select, insert on ledger.erased, ledger.erased_found',
  'select, insert on ledger.event',
  'usage on sequence ledger.event_id_seq',
  'select, insert, delete on spoor.touched',
  'select, insert on spoor.alarm',
  'select, update on spoor.erasure, spoor.standing, spoor.standing_read, spoor.pack',
  'select, update (state, until_save, changed_at) on spoor.noticing',
  'select, insert, update on spoor.life_read, spoor.held_read',
  'select, delete on spoor.life, spoor.held, spoor.answer',
  'select, update on spoor.difference',
  'select, update, delete on spoor.correction, spoor.correction_item, spoor.correction_change',
]
