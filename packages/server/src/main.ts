import { pino } from 'pino'
import { ConfigError, readConfig, readFirst } from './config.ts'
import { keptAddresses, makeDatabase, type Addresses } from './schema/make-database.ts'
import { startServer } from './server.ts'

/** For whoever started it by hand: where it is, and how to begin. */
function sayWhere({ address, firstLink }: Awaited<ReturnType<typeof startServer>>): void {
  console.log(`\n  Spoor is at ${address}\n`)
  if (firstLink)
    console.log(
      `  Nobody can sign in yet. Open this within an hour to become the first administrator; it works once:\n  ${firstLink}\n`,
    )
}

/** The addresses of Spoor's own database where nobody said any: kept at an earlier start, or of one made now. */
async function ownAddresses(): Promise<Addresses | null> {
  const { dataDir, databaseSaid, makeWith } = readFirst(process.env)
  if (databaseSaid) return null
  const kept = keptAddresses(dataDir)
  if (kept || makeWith === null) return kept
  const made = await makeDatabase(makeWith, dataDir)
  console.log(`\n  Made the database spoor and its three roles; their addresses are kept in ${dataDir}.`)
  return made
}

const inEnvironment = (addresses: Addresses | null) =>
  addresses && {
    SPOOR_DATABASE_URL: addresses.databaseUrl,
    SPOOR_OWNER_DATABASE_URL: addresses.ownerDatabaseUrl,
    SPOOR_ERASURE_DATABASE_URL: addresses.erasureDatabaseUrl,
  }

async function main(): Promise<void> {
  const config = readConfig({ ...process.env, ...inEnvironment(await ownAddresses()) })
  const log = pino({ level: config.logLevel, redact: ['req.headers'] })
  const server = await startServer(config, log)
  log.info({ address: server.address }, 'Spoor is listening')
  process.send?.({ ready: server.address })
  if (!process.send) sayWhere(server)
  const stop = () => {
    server.close().then(
      () => process.exit(0),
      (error: unknown) => {
        log.error({ err: error }, 'stopping failed')
        process.exit(1)
      },
    )
  }
  process.once('SIGINT', stop)
  process.once('SIGTERM', stop)
  // A parent that goes away without a word, e.g. killed, takes its server along.
  if (process.send) process.once('disconnect', stop)
}

main().catch((error: unknown) => {
  const code = (error as { code?: unknown }).code
  if (error instanceof ConfigError) console.error(error.message)
  else if (code === 'EADDRINUSE') console.error('The port is in use by another program. Set SPOOR_PORT to a free one.')
  else console.error('Spoor could not start:', error instanceof Error ? error.message : error)
  process.exit(1)
})
