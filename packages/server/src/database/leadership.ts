import type { Client } from 'pg'
import type { Database } from './knex.ts'

/** One holder among all servers for a named duty, by a session-level advisory lock of Spoor's database. */
export class Leadership {
  readonly #db: Database
  readonly #duty: string
  #client: Client | null = null
  constructor(db: Database, duty: string) {
    this.#db = db
    this.#duty = duty
  }

  /** Whether this process has the duty now; tries to take it when nobody has. */
  async holds(): Promise<boolean> {
    if (this.#client) {
      try {
        await this.#client.query('select 1')
        return true
      } catch {
        // The session is gone and the lock with it; stand for it again on a new one.
        await this.#drop()
      }
    }
    const client = (await this.#db.client.acquireConnection()) as Client
    const { rows } = await client.query<{ got: boolean }>(
      'select pg_try_advisory_lock(hashtextextended($1, 0)) as got',
      [`spoor ${this.#duty}`],
    )
    if (rows[0]?.got) {
      this.#client = client
      return true
    }
    await this.#db.client.releaseConnection(client)
    return false
  }

  async resign(): Promise<void> {
    if (!this.#client) return
    await this.#client.query('select pg_advisory_unlock_all()').catch(() => undefined)
    await this.#drop()
  }

  async #drop(): Promise<void> {
    const client = this.#client
    this.#client = null
    if (client) await this.#db.client.releaseConnection(client)
  }
}
