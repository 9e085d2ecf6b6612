import { Logger, runMigrations } from 'graphile-worker'
import pg from 'pg'
import type { Logger as Log } from 'pino'
import { quoteIdentifier } from '../database/identifier.ts'
import { ownOptions } from '../database/knex.ts'

/** The schema of the queue's own tables, of which only its package knows what they hold. */
export const queueSchema = 'work'

export function queuePool(url: string, most: number): pg.Pool {
  return new pg.Pool({
    connectionString: url,
    max: most,
    application_name: 'spoor work',
    options: ownOptions,
    connectionTimeoutMillis: 5000,
  })
}

/** Brings the queue's tables up to date as the owner; their policies let nobody else in but the application. */
export async function migrateQueue(ownerUrl: string, application: string): Promise<void> {
  const pool = queuePool(ownerUrl, 2)
  try {
    await runMigrations({ pgPool: pool, schema: queueSchema, logger: new Logger(() => () => undefined) })
    const { rows } = await pool.query<{ name: string }>(
      `select c.relname as name from pg_class c join pg_namespace n on n.oid = c.relnamespace
        where n.nspname = $1 and c.relrowsecurity
          and not exists (select from pg_policy p where p.polrelid = c.oid and p.polname = 'application')`,
      [queueSchema],
    )
    for (const { name } of rows)
      await pool.query(
        `create policy application on ${queueSchema}.${quoteIdentifier(name)} to ${quoteIdentifier(application)} using (true)`,
      )
  } finally {
    await pool.end()
  }
}

/** The queue's words in Spoor's log; what it says of each job is said by the job. */
export function queueLogger(log: Log): Logger {
  return new Logger(() => (level, message) => {
    // Its names of levels exist for the compiler only.
    if ((level as string) === 'warning') log.warn(message)
  })
}
