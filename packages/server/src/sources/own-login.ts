import { quoteIdentifier as id, quoteLiteral } from '../database/identifier.ts'
import { connect, type Database } from '../database/knex.ts'
import { newPassword, verifierOf } from '../database/password.ts'
import { plainQuery } from '../database/plain.ts'
import { errorCode, Problem } from '../errors.ts'

interface Facts {
  database: string
  superuser: boolean
  exists: boolean
  owners: string[]
}

/** What the login that Spoor makes for itself is called, by the database it looks at. PostgreSQL cuts what is too long. */
const loginFor = (database: string) => `spoor_${database}`

async function factsOf(source: Database): Promise<Facts> {
  const { rows } = await source.raw<{ rows: Facts[] }>(
    `select current_database() as database, me.rolsuper as superuser,
            exists (select from pg_roles where rolname = 'spoor_' || current_database()) as exists,
            array(select distinct o.rolname::text from pg_class c join pg_roles o on o.oid = c.relowner join pg_namespace n on n.oid = c.relnamespace
                   where c.relkind in ('r', 'p') and n.nspname !~ '^pg_' and n.nspname not in ('information_schema', 'spoor_capture')
                     and not o.rolsuper order by 1) as owners
       from pg_roles me where me.rolname = current_user`,
  )
  return rows[0]!
}

/** The statements that give Spoor a login of its own. */
function statements({ database, owners }: Facts, secret: string): string[] {
  const login = id(loginFor(database))
  return [
    `create role ${login} login password ${quoteLiteral(secret)}`,
    ...owners.map((owner) => `grant ${id(owner)} to ${login}`),
    `grant create on database ${id(database)} to ${login}`,
  ]
}

/**
 * What would be run to give Spoor a login of its own, for the eye; null where this login is no superuser, such a login is
 * there already, or the tables belong to superusers, whose rights nobody should have.
 */
export async function proposedLogin(source: Database): Promise<{ login: string; statements: string[] } | null> {
  const facts = await factsOf(source)
  if (!facts.superuser || facts.exists || facts.owners.length === 0) return null
  return { login: loginFor(facts.database), statements: statements(facts, '…').map((one) => `${one};`) }
}

/**
 * Makes a login of Spoor's own by a superuser's address, in one transaction, and does something by it; fails that,
 * the login is taken away again. The address that made it is not kept.
 * @param use gets the address by which Spoor comes from then on
 * @throws Problem when the database refuses
 */
export async function withOwnLogin<T>(url: string, use: (own: string) => Promise<T>): Promise<T> {
  const { own, undo } = await makeLogin(url)
  try {
    return await use(own)
  } catch (error) {
    await undo()
    throw error
  }
}

async function makeLogin(url: string): Promise<{ own: string; undo: () => Promise<void> }> {
  const source = connect(url, { applicationName: 'spoor set-up', maxConnections: 1 })
  try {
    const facts = await factsOf(source)
    const password = newPassword()
    await source.transaction(async (trx) => {
      for (const statement of statements(facts, verifierOf(password))) await plainQuery(trx, statement)
    })
    const own = new URL(url)
    own.username = encodeURIComponent(loginFor(facts.database))
    own.password = password
    return { own: own.href, undo: () => takeAway(url, loginFor(facts.database)) }
  } catch (error) {
    if (errorCode(error) === undefined || !(error instanceof Error)) throw error
    throw new Problem(
      'source-refused',
      `The database would not make a login for Spoor: ${error.message}. Nothing was made and nothing was kept.`,
    )
  } finally {
    await source.destroy()
  }
}

async function takeAway(url: string, login: string): Promise<void> {
  const source = connect(url, { applicationName: 'spoor set-up', maxConnections: 1 })
  try {
    await source.transaction(async (trx) => {
      await plainQuery(trx, `drop owned by ${id(login)}`)
      await plainQuery(trx, `drop role ${id(login)}`)
    })
  } finally {
    await source.destroy()
  }
}
