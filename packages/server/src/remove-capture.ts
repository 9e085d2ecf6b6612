import { removeCapture } from './capture/remove.ts'
import { ConfigError, readConfig } from './config.ts'
import { connect } from './database/knex.ts'
import { Problem } from './errors.ts'
import { sealsFacts } from './evidence/evidence.ts'
import { Vault } from './secret.ts'
import { Sources } from './sources/registry.ts'

/** `remove-capture 'SOURCE NAME'`: takes everything of Spoor's out of a source. */
async function main([name]: string[]): Promise<string> {
  if (!name) return `usage: remove-capture 'SOURCE NAME'`
  const config = readConfig(process.env)
  const vault = Vault.open(config.dataDir)
  const db = connect(config.databaseUrl, {
    applicationName: 'spoor remove-capture',
    maxConnections: 2,
    own: true,
    beforeCommit: sealsFacts(vault),
  })
  const sources = new Sources(db, vault)
  try {
    const source = (await sources.list()).find((one) => one.name === name)
    if (!source) return `There is no source “${name}”. Nothing was removed.`
    await removeCapture(db, sources, source.id)
    console.log(`Everything of Spoor’s was taken out of “${name}”. The ledger keeps what was captured.`)
    return ''
  } finally {
    await sources.close()
    await db.destroy()
  }
}

main(process.argv.slice(2)).then(
  (complaint) => {
    if (complaint) console.error(complaint)
    process.exitCode = complaint ? 1 : 0
  },
  (error: unknown) => {
    console.error(error instanceof ConfigError || error instanceof Problem ? error.message : error)
    process.exitCode = 1
  },
)
