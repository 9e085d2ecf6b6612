import { readRefusal } from './guard-refusal.ts'

/** What Spoor writes beside the changes of a transaction. */
export interface ActorContext {
  /** The person or process that makes the changes, by the name the directory knows. */
  actor: string
  /** `person` unless said otherwise. */
  kind?: 'person' | 'import' | 'job' | 'integration' | 'delegate'
  /** Whom a delegate acts for. */
  onBehalfOf?: string
  /** How it came in: `screen`, `API`, `import`, `job`. */
  channel?: string
  /** Saves with the same run belong together. */
  run?: string
  reason?: string
}

/** One connection, such as a client of the `pg` package. It must not be used by anybody else meanwhile. */
export interface QueryClient {
  query(text: string, values?: unknown[]): Promise<unknown>
}

/**
 * Runs `work` in a transaction whose changes are captured with this actor and reason. Commits when it resolves,
 * rolls back when it rejects, and passes its result or its failure on. Works whether or not tracking is installed.
 * @throws GuardRefusal when a guard of Spoor's refused it
 */
export async function withActor<C extends QueryClient, T>(
  client: C,
  context: ActorContext,
  work: (client: C) => Promise<T>,
): Promise<T> {
  await client.query('begin')
  try {
    await client.query(`select set_config('spoor.context', $1, true)`, [JSON.stringify(context)])
    const result = await work(client)
    await client.query('commit')
    return result
  } catch (error) {
    await client.query('rollback')
    const refused = readRefusal(error)
    if (!refused) throw error
    await tell(client, refused.detail, context)
    throw refused.refusal
  }
}

/** Of a transaction that was taken back nothing is left in the database, so who was refused is told after it. */
async function tell(client: QueryClient, detail: string, context: ActorContext): Promise<void> {
  try {
    await client.query('select spoor_capture.tell_refused($1, $2)', [detail, JSON.stringify(context)])
  } catch {
    // It was refused all the same; the source has counted it.
  }
}
