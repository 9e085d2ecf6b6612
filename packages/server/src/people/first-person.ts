import { createHash, randomBytes, timingSafeEqual } from 'node:crypto'
import { firstRole } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { recordEvent } from '../ledger/events.ts'
import { loginName, People, type NewPerson } from './people.ts'

const openForMs = 3_600_000

/**
 * While nobody can sign in, whoever started the server is given a link that makes the first administrator: once, and within
 * an hour of the start. The key stands behind the link's `#`, so that it is neither sent for the page nor logged, and in
 * this server's memory alone.
 */
export class FirstPerson {
  readonly #db: Database
  readonly #key = randomBytes(24).toString('base64url')
  readonly #untilMs = Date.now() + openForMs
  constructor(db: Database) {
    this.#db = db
  }

  /** Whether nobody can sign in yet. */
  async wanted(): Promise<boolean> {
    return (await this.#db('spoor.person').first('id')) === undefined
  }

  /** Where on this server the first administrator is made. */
  get path(): string {
    return `/first#${this.#key}`
  }

  /** @throws Problem where the key is another, its time is over, or somebody can sign in already */
  async make(key: string, person: Omit<NewPerson, 'role'>, address?: string): Promise<void> {
    if (!same(key, this.#key) || Date.now() > this.#untilMs) throw refused()
    await this.#db.transaction(async (trx) => {
      await trx.raw(`select pg_advisory_xact_lock(hashtext('the first person'))`)
      if (await trx('spoor.person').first('id')) throw refused()
      const people = new People(trx)
      await people.add({ ...person, role: firstRole })
      await recordEvent(trx, {
        kind: 'person',
        personId: (await people.byLogin(loginName(person.login)))!.id,
        words: 'became the first administrator, by the link that the server printed',
        address,
      })
    })
  }
}

function refused(): Problem {
  return new Problem(
    'not-allowed',
    'This link does not hold any more: it was used, an hour has passed, or the server was started again. Nobody was added. While nobody can sign in, starting Spoor again prints a new one.',
  )
}

const digest = (text: string) => createHash('sha256').update(text).digest()
const same = (one: string, other: string) => timingSafeEqual(digest(one), digest(other))
