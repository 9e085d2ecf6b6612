import type { Client } from 'pg'
import type { Database } from './knex.ts'

/**
 * The one session by which a process holds its duties, so that however many there are, one connection is enough. It is
 * taken from the pool while there is a duty to hold.
 */
class Session {
  static readonly #ofDatabase = new WeakMap<Database, Session>()
  readonly #db: Database
  #client: Promise<Client> | null = null
  /** A lock can be taken again by the session that has it: who of this process has it is known here. */
  readonly #held = new Map<string, Leadership>()

  constructor(db: Database) {
    this.#db = db
  }

  static of(db: Database): Session {
    const known = this.#ofDatabase.get(db)
    if (known) return known
    const session = new Session(db)
    this.#ofDatabase.set(db, session)
    return session
  }

  async holds(duty: string, asker: Leadership): Promise<boolean> {
    const holder = this.#held.get(duty)
    if (holder && holder !== asker) return false
    this.#client ??= this.#db.client.acquireConnection() as Promise<Client>
    const own = this.#client
    try {
      const client = await own
      if (holder) {
        await client.query('select 1')
        return this.#client === own
      }
      this.#held.set(duty, asker)
      const { rows } = await client.query<{ got: boolean }>('select pg_try_advisory_lock(hashtextextended($1, 0)) as got', [`spoor ${duty}`]) // prettier-ignore
      if (rows[0]?.got && this.#client === own) return true
      this.#held.delete(duty)
      if (this.#client === own && this.#held.size === 0) await this.#giveBack()
      return false
    } catch (error) {
      // The session is gone and every lock with it; whoever held one stands for it again on a new one.
      if (this.#client === own) {
        this.#held.clear()
        // The mark by which Knex throws a connection away instead of giving it out again.
        await own.then((client) => Object.assign(client, { __knex__disposed: error })).catch(() => undefined)
        await this.#giveBack().catch(() => undefined)
      }
      if (holder) return false
      throw error
    }
  }

  async resign(duty: string, asker: Leadership): Promise<void> {
    if (this.#held.get(duty) !== asker) return
    this.#held.delete(duty)
    const client = await this.#client?.catch(() => null)
    await client?.query('select pg_advisory_unlock(hashtextextended($1, 0))', [`spoor ${duty}`]).catch(() => undefined)
    if (this.#held.size === 0) await this.#giveBack()
  }

  async #giveBack(): Promise<void> {
    const client = this.#client
    this.#client = null
    if (client) await this.#db.client.releaseConnection(await client)
  }
}

/** One holder among all servers for a named duty, by a session-level advisory lock of Spoor's database. */
export class Leadership {
  readonly #session: Session
  readonly #duty: string
  constructor(db: Database, duty: string) {
    this.#session = Session.of(db)
    this.#duty = duty
  }

  /** Whether this process has the duty now; tries to take it when nobody has. */
  holds(): Promise<boolean> {
    return this.#session.holds(this.#duty, this)
  }

  resign(): Promise<void> {
    return this.#session.resign(this.#duty, this)
  }
}
