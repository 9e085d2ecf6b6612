import type { SourceCheck } from '@spoor/contract'
import { connect } from '../database/knex.ts'
import { quoteIdentifier } from '../database/identifier.ts'
import { discover } from './discover.ts'
import { proposedLogin } from './own-login.ts'
import { isUnreachable, unreachable } from './trouble.ts'

const leastVersion = 150_000

interface Facts {
  version: number
  shown: string
  database: string
  login: string
  may_create: boolean
  sees_locks: boolean
}

/** Tries an address and says what its login may do there. Nothing is kept and nothing is changed. */
export async function checkSource(url: string): Promise<SourceCheck> {
  const source = connect(url, { applicationName: 'spoor check', maxConnections: 1 })
  try {
    const { rows } = await source.raw<{ rows: Facts[] }>(
      `select current_setting('server_version_num')::int as version, current_setting('server_version') as shown,
              current_database() as database, current_user as login,
              has_database_privilege(current_database(), 'CREATE') or to_regnamespace('spoor_capture') is not null as may_create,
              has_schema_privilege('pg_catalog', 'USAGE') as sees_locks`,
    )
    const facts = rows[0]!
    const tables = await discover(source)
    const { rows: logins } = await source.raw<{ rows: { name: string }[] }>(
      `select rolname as name from pg_roles where rolcanlogin and rolname !~ '^pg_' and has_database_privilege(oid, current_database(), 'CONNECT') order by 1`,
    )
    const trackable = tables.filter((table) => table.obstacle === null).length
    const current = facts.version >= leastVersion
    return {
      database: facts.database,
      usable: current && facts.may_create,
      ownLogin: current ? await proposedLogin(source) : null,
      tables: tables.length,
      trackable,
      logins: logins.map((login) => login.name).filter((name) => name !== facts.login),
      checks: [
        {
          words: `The login ${facts.login} may connect to the database ${facts.database}.`,
          passed: true,
          remedy: null,
        },
        {
          words: current
            ? `It is PostgreSQL ${facts.shown}.`
            : `It is PostgreSQL ${facts.shown}; Spoor needs 15 or newer.`,
          passed: current,
          remedy: null,
        },
        {
          words: facts.may_create
            ? 'The login may create the schema spoor_capture, which holds everything Spoor adds.'
            : 'The login may not create the schema spoor_capture, which would hold everything Spoor adds.',
          passed: facts.may_create,
          remedy: facts.may_create
            ? null
            : `grant create on database ${quoteIdentifier(facts.database)} to ${quoteIdentifier(facts.login)};`,
        },
        {
          words: `${trackable} of ${tables.length} tables can be tracked.`,
          passed: trackable === tables.length && tables.length > 0,
          remedy: null,
        },
        ...tables.flatMap(({ obstacle }) =>
          obstacle ? [{ words: obstacle.words, passed: false, remedy: obstacle.remedy }] : [],
        ),
      ],
    }
  } catch (error) {
    if (!isUnreachable(error)) throw error
    const { words } = unreachable(error)
    return {
      database: null,
      usable: false,
      tables: 0,
      trackable: 0,
      logins: [],
      ownLogin: null,
      checks: [{ words, passed: false, remedy: null }],
    }
  } finally {
    await source.destroy()
  }
}
