import { text } from 'node:stream/consumers'
import { roles, type Role } from '@spoor/contract'
import { ConfigError, readConfig } from './config.ts'
import { connect } from './database/knex.ts'
import { migrate, rolesOf } from './schema/migrate.ts'
import { sealsFacts } from './evidence/evidence.ts'
import { People } from './people/people.ts'
import { Vault } from './secret.ts'

const leastPasswordLength = 12

/** `add-person LOGIN NAME ROLE`, the password on standard input. */
async function main([login, name, role]: string[]): Promise<string> {
  if (!login || !name || !roles.includes(role as Role))
    return `usage: add-person LOGIN 'FULL NAME' ${roles.join('|')} < password`
  const password = (await text(process.stdin)).replace(/\r?\n$/, '')
  if (password.length < leastPasswordLength)
    return `The password needs at least ${leastPasswordLength} characters. Nobody was added.`
  const config = readConfig(process.env)
  await migrate(config.ownerDatabaseUrl, rolesOf(config))
  const db = connect(config.databaseUrl, {
    applicationName: 'spoor add-person',
    maxConnections: 1,
    own: true,
    beforeCommit: sealsFacts(Vault.open(config.dataDir)),
  })
  try {
    await new People(db).add({ login, name, role: role as Role, password })
  } finally {
    await db.destroy()
  }
  return ''
}

main(process.argv.slice(2)).then(
  (complaint) => {
    if (complaint) console.error(complaint)
    process.exitCode = complaint ? 1 : 0
  },
  (error: unknown) => {
    console.error(error instanceof ConfigError ? error.message : error)
    process.exitCode = 1
  },
)
