import { ConfigError, readConfig } from './config.ts'
import { handOver } from './custody/hand-over.ts'
import { connect } from './database/knex.ts'
import { Problem } from './errors.ts'
import { sealsFacts } from './evidence/evidence.ts'
import { Vault } from './secret.ts'

/** `replace-key`: hands sealing over to a new key. All servers of this Spoor have to be stopped. */
async function main(): Promise<void> {
  const config = readConfig(process.env)
  const db = connect(config.databaseUrl, {
    applicationName: 'spoor replace-key',
    maxConnections: 2,
    own: true,
    beforeCommit: sealsFacts(Vault.open(config.dataDir)),
  })
  try {
    const { line } = await handOver(db, config.dataDir)
    console.log(`Seals are signed with a new key from the next start on. Hand it out:\n${line}`)
  } finally {
    await db.destroy()
  }
}

main().catch((error: unknown) => {
  console.error(error instanceof ConfigError || error instanceof Problem ? error.message : error)
  process.exitCode = 1
})
