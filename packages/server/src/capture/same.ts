import { readHead } from './outbox.ts'
import type { Database } from '../database/knex.ts'
import { ownInstallation } from '../ledger/installation.ts'
import { Problem } from '../errors.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable } from '../sources/trouble.ts'

/** A running cluster and a database in it; the same whatever address it was reached by. */
async function identityOf(source: Database): Promise<string> {
  const { rows } = await source.raw<{ rows: { identity: string }[] }>(
    `select extract(epoch from pg_postmaster_start_time())::text || ' ' || (select oid from pg_database where datname = current_database())::text as identity`,
  )
  return rows[0]!.identity
}

/**
 * Two sources on one database would each take what the other is to have.
 * @throws Problem when the database is a source of this Spoor already, or of another one.
 */
export async function demandUnknown(
  db: Database,
  sources: Sources,
  candidate: Database,
  exceptSourceId: number | null,
): Promise<void> {
  const head = await readHead(candidate)
  if (head?.installation && head.installation !== (await ownInstallation(db)))
    throw new Problem(
      'source-known',
      'Another Spoor collects from this database, and two would take each other’s captured rows. Nothing was kept. Remove the capture of the other one there first.',
    )
  const identity = await identityOf(candidate)
  for (const { id, name } of await sources.list()) {
    if (id === exceptSourceId) continue
    try {
      if ((await identityOf(await sources.connection(id))) === identity)
        throw new Problem('source-known', `This database is connected already, as “${name}”. Nothing was kept.`)
    } catch (error) {
      if (error instanceof Problem || !isUnreachable(error)) throw error
    }
  }
}
