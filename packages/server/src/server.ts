import { Correcting } from './corrections/correcting.ts'
import { readFile } from 'node:fs/promises'
import { createServer, type Server } from 'node:http'
import { fileURLToPath } from 'node:url'
import pg from 'pg'
import type { Logger } from 'pino'
import { createApp } from './app.ts'
import { Collector } from './collector/collector.ts'
import { Collectors } from './collector/collectors.ts'
import { settlingAttempts } from './corrections/attempt.ts'
import type { ResolvedConfig } from './config.ts'
import { Checking } from './custody/checking.ts'
import { SliceThreads } from './custody/slices.ts'
import { finishHandOver } from './custody/hand-over.ts'
import { OutsideSeals } from './custody/outside.ts'
import { Sealer } from './custody/sealer.ts'
import {
  addressWitness,
  authorityWitness,
  folderWitness,
  mailWitness,
  type WitnessAtWork,
} from './custody/witnesses.ts'
import { Witnessing } from './custody/witnessing.ts'
import { Mailer } from './mail/mailer.ts'
import { SigningKey } from './custody/signing-key.ts'
import { connect, ownOptions, type Database } from './database/knex.ts'
import { migrate, rolesOf } from './schema/migrate.ts'
import { Problem } from './errors.ts'
import { adoptEvidence } from './evidence/adopt.ts'
import { evidenceKey, sealsFacts } from './evidence/evidence.ts'
import { Taking } from './tracking/taking.ts'
import { readStaffCsv, takeStaffList } from './people/directory.ts'
import { FirstPerson } from './people/first-person.ts'
import { NoticingTrials } from './noticing/trial.ts'
import { Noticing } from './noticing/noticing.ts'
import { TimeAuthority } from './custody/authority.ts'
import { PackPost } from './packs/post.ts'
import { Packing, packsDirectory, packWantsSeal } from './packs/packing.ts'
import { KeepingBaselines } from './baselines/keep.ts'
import { Reading } from './scope/reading.ts'
import { Answering } from './work/answering.ts'
import { pivots } from './figures/pivot.ts'
import { guardTrials } from './guards/trial.ts'
import { watchTrials } from './watches/trial.ts'
import { Reconciling } from './reconcile/reconciling.ts'
import { StandingRecords } from './standing/standing.ts'
import { PulseSource } from './pulse/pulse.ts'
import { Vault } from './secret.ts'
import { Sources } from './sources/registry.ts'
import { Watch } from './watch/watch.ts'
import { GuardNotes } from './guards/noting.ts'
import { Telling } from './watches/telling.ts'
import { Watching } from './watches/watching.ts'
import { Work } from './work/work.ts'
import { Installing } from './tracking/installing.ts'
import { settleInstallations } from './tracking/put-in-force.ts'

export interface RunningServer {
  address: string
  /** Where the first administrator is made, while nobody can sign in. */
  firstLink: string | null
  db: Database
  sources: Sources
  close(): Promise<void>
}

const webDirectory = fileURLToPath(new URL('../../web/dist', import.meta.url))

/** Brings the database up to date, starts collecting and listens. */
export async function startServer(config: ResolvedConfig, log: Logger): Promise<RunningServer> {
  const vault = Vault.open(config.dataDir)
  await migrate(config.ownerDatabaseUrl, rolesOf(config))
  const beforeCommit = sealsFacts(vault)
  const db = connect(config.databaseUrl, {
    applicationName: 'spoor',
    maxConnections: 14,
    keptConnections: 4,
    own: true,
    beforeCommit,
  })
  await adoptEvidence(db, evidenceKey(vault))
  const sessionPool = new pg.Pool({
    connectionString: config.databaseUrl,
    max: 4,
    application_name: 'spoor sessions',
    options: ownOptions,
  })
  sessionPool.on('error', (error) => log.warn({ err: error }, 'a session connection was lost'))
  const sources = new Sources(db, vault)
  if (config.source) await sources.add(config.source)
  if (config.directoryFile) await readDirectory(db, config.directoryFile, log)
  for (const words of await settleInstallations(db, sources)) log.info(words)

  const pulse = new PulseSource(db, log)
  const fingerprintKey = vault.derive('fingerprint')
  const collectors = new Collectors(
    sources,
    (sourceId) => [
      new Collector(sourceId, {
        db,
        sources,
        log,
        fingerprintKey,
        everyMs: config.collectEveryMs,
        onCollected: () => void pulse.look(),
      }),
      new Watch(sourceId, { db, sources, log }),
      new GuardNotes(sourceId, { db, sources, log }),
    ],
    log,
  )
  await collectors.start()
  const settling = settlingAttempts(db, sources, log)
  settling.start()
  const noticing = new Noticing(db, log)
  noticing.start()
  const standing = new StandingRecords(db, log)
  standing.start()
  const outside = new OutsideSeals(config.dataDir)
  await finishHandOver(db, config.dataDir)
  const key = SigningKey.open(config.dataDir)
  const sealer = new Sealer({ db, key, outside, log, everyMs: config.sealEveryMs, wanted: () => packWantsSeal(db) })
  sealer.start()
  const authority = config.timeStampUrl === null ? null : new TimeAuthority(config.timeStampUrl)
  const mailer = config.mail && new Mailer(config.mail.url, config.mail.from)
  const witnessing = new Witnessing({ db, log, witnesses: witnessesOf(config, authority, mailer) })
  await witnessing.start()
  const work = new Work({
    db,
    databaseUrl: config.databaseUrl,
    log,
    handlers: [
      new Checking({
        db,
        outside,
        evidenceKey: evidenceKey(vault),
        openSlices: () => new SliceThreads(config.databaseUrl),
      }),
      new NoticingTrials(db),
      new Installing(db, sources),
      new Taking(db, sources, fingerprintKey),
      new KeepingBaselines(db),
      new Correcting(db, sources),
      new Packing({ db, key, authority, directory: packsDirectory(config.dataDir) }),
      new Reconciling(db, sources, fingerprintKey),
      new Reading(db),
      new Answering(db, [pivots, watchTrials, guardTrials]),
    ],
  })
  await work.start()

  const sessionSecret = vault.derive('sessions').toString('hex')
  const first = new FirstPerson(db)
  const app = createApp({
    db,
    first,
    sessionPool,
    sessionSecret,
    sources,
    pulse,
    log,
    https: config.https,
    trustedProxies: config.trustedProxies,
    webDirectory,
    packsDirectory: packsDirectory(config.dataDir),
    timeAuthority: authority,
    vault,
    mayMail: mailer !== null,
    connectEraser: () =>
      connect(config.erasureDatabaseUrl, {
        applicationName: 'spoor erasure',
        maxConnections: 1,
        own: true,
        beforeCommit,
      }),
    onSourceAdded: () => collectors.look(),
  })
  const http = await listen(createServer(app), config)
  const watching = new Watching({ db, log })
  watching.start()
  const telling = new Telling({ db, log, mailer, vault, address: config.publicUrl ?? http.address })
  telling.start()
  const packPost = new PackPost({ db, log, mailer, address: config.publicUrl ?? http.address })
  packPost.start()
  return {
    address: http.address,
    firstLink: (await first.wanted()) ? `${http.address}${first.path}` : null,
    db,
    sources,
    close: async () => {
      await http.close()
      pulse.close()
      await collectors.stop()
      await settling.stop()
      await noticing.stop()
      await standing.stop()
      await watching.stop()
      await telling.stop()
      await packPost.stop()
      await witnessing.stop()
      await sealer.stop()
      await work.stop()
      await sources.close()
      mailer?.close()
      await sessionPool.end()
      await db.destroy()
    },
  }
}

/** Who is given seals, as it is set. */
function witnessesOf(
  { witnesses: { folders, urls, mail } }: ResolvedConfig,
  authority: TimeAuthority | null,
  mailer: Mailer | null,
): WitnessAtWork[] {
  return [
    ...(authority ? [authorityWitness(authority)] : []),
    ...folders.map(folderWitness),
    ...urls.map(addressWitness),
    ...(mailer ? mail.map((to) => mailWitness(mailer, to)) : []),
  ]
}

/** A staff list that cannot be read is said and does not keep Spoor from starting. */
async function readDirectory(db: Database, file: string, log: Logger): Promise<void> {
  try {
    const { people } = await takeStaffList(db, readStaffCsv(await readFile(file, 'utf8')), { dryRun: false })
    log.info({ people }, 'the staff list was loaded')
  } catch (error) {
    const unreadable = ['ENOENT', 'EACCES', 'EISDIR'].includes((error as NodeJS.ErrnoException).code ?? '')
    if (!(error instanceof Problem) && !unreadable) throw error
    log.error({ file }, (error as Error).message)
  }
}

async function listen(
  server: Server,
  { port, host }: ResolvedConfig,
): Promise<{ address: string; close(): Promise<void> }> {
  await new Promise<void>((done, fail) => server.once('error', fail).listen(port, host, done))
  const bound = server.address()
  const actual = typeof bound === 'object' && bound ? bound.port : port
  return {
    address: `http://${host.includes(':') ? `[${host}]` : host}:${actual}`,
    close: () =>
      new Promise<void>((done) => {
        server.close(() => done())
        // Followers of the pulse never hang up by themselves.
        server.closeAllConnections()
      }),
  }
}
