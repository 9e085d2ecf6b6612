import type { Client } from 'pg'
import type { Database } from './knex.ts'

/**
 * The one session by which a process holds its duties, so that however many there are, one connection is enough. It is
 * taken from the pool while there is a duty to hold.
 */
class Session {
  static readonly #ofDatabase = new WeakMap<Database, Session>()
  readonly #db: Database
  #client: Client | null = null
  /** A lock can be taken again by the session that has it: who of this process has it is known here. */
  readonly #held = new Map<string, Leadership>()
  /** A connection does one thing at a time: whoever asks waits for those before. */
  #last: Promise<unknown> = Promise.resolve()

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

  #inTurn<T>(work: () => Promise<T>): Promise<T> {
    const done = this.#last.then(work)
    this.#last = done.catch(() => undefined)
    return done
  }

  holds(duty: string, asker: Leadership): Promise<boolean> {
    return this.#inTurn(() => this.#holds(duty, asker))
  }

  resign(duty: string, asker: Leadership): Promise<void> {
    return this.#inTurn(() => this.#resign(duty, asker))
  }

  async #holds(duty: string, asker: Leadership): Promise<boolean> {
    const holder = this.#held.get(duty)
    // What this process holds it holds only as long as its session lasts, whoever of it asks.
    if (holder && (await this.#lasts())) return holder === asker
    if (holder === asker) return false
    this.#client ??= (await this.#db.client.acquireConnection()) as Client
    try {
      const { rows } = await this.#client.query<{ got: boolean }>(
        'select pg_try_advisory_lock(hashtextextended($1, 0)) as got',
        [`spoor ${duty}`],
      )
      if (rows[0]?.got) this.#held.set(duty, asker)
      else if (this.#held.size === 0) await this.#giveBack()
      return rows[0]?.got ?? false
    } catch (error) {
      await this.#lost(error)
      throw error
    }
  }

  async #lasts(): Promise<boolean> {
    try {
      await this.#client!.query('select 1')
      return true
    } catch (error) {
      await this.#lost(error)
      return false
    }
  }

  /** The session is gone and every lock with it; whoever held one stands for it again on a new one. */
  async #lost(error: unknown): Promise<void> {
    this.#held.clear()
    // The mark by which Knex throws a connection away instead of giving it out again.
    if (this.#client) Object.assign(this.#client, { __knex__disposed: error })
    await this.#giveBack().catch(() => undefined)
  }

  async #resign(duty: string, asker: Leadership): Promise<void> {
    if (this.#held.get(duty) !== asker) return
    this.#held.delete(duty)
    await this.#client
      ?.query('select pg_advisory_unlock(hashtextextended($1, 0))', [`spoor ${duty}`])
      .catch(() => undefined)
    if (this.#held.size === 0) await this.#giveBack()
  }

  async #giveBack(): Promise<void> {
    const client = this.#client
    this.#client = null
    if (client) await this.#db.client.releaseConnection(client)
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
