import { counted } from '@spoor/core'
import type { Logger } from 'pino'
import type { Database } from '../database/knex.ts'
import { Duty } from '../database/duty.ts'
import { recordEvent } from '../people/events.ts'
import { LedgerCheck } from './check.ts'
import type { OutsideSeals } from './outside.ts'
import type { Slices } from './slices.ts'
import { extentOf } from './tree.ts'

export interface CheckRow {
  id: number
  began_at: string
  seen_at: string
  ended_at: string | null
  asked_by: number | null
  stop_asked: boolean
  done: string
  total: string
  found: number
  trouble: string | null
}

export interface CheckingDeps {
  db: Database
  outside: OutsideSeals
  evidenceKey: Buffer
  /** Of one check, which closes them. */
  openSlices(): Slices
  log: Logger
}

const lookEveryMs = 1000
const retryMs = 60_000
/** A whole check begins so long after the last one ended. */
const everyMs = 24 * 3_600_000

/** Checks the whole ledger again and again at an easy pace, and at once when somebody asks; on one server among all. */
export class Checking {
  readonly #db: Database
  readonly #deps: CheckingDeps
  readonly #duty: Duty

  constructor(deps: CheckingDeps) {
    const { db, log } = deps
    this.#db = db
    this.#deps = deps
    this.#duty = new Duty(db, 'checking', {
      round: () => this.round().then(() => lookEveryMs),
      failed: (error) => log.error({ err: error }, 'checking the ledger was interrupted and begins again'),
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  stop(): Promise<void> {
    return this.#duty.stop()
  }

  /** Does a check that is due or asked for. @returns whether it did one */
  async round(): Promise<boolean> {
    // What a server left that stopped is over.
    const open = await this.#db<CheckRow>('spoor.ledger_check').whereNull('ended_at').orderBy('id').first()
    if (open && open.done !== '0') await this.#end(open.id, 0, 'The server that checked stopped.')
    const waiting = open && open.done === '0' ? open : await this.#begin()
    if (!waiting) return false
    await this.#check(waiting)
    return true
  }

  async #begin(): Promise<CheckRow | null> {
    const last = await this.#db<CheckRow>('spoor.ledger_check').whereNotNull('ended_at').orderBy('id', 'desc').first()
    if (last && Date.now() - Date.parse(last.ended_at!) < everyMs) return null
    const { size } = await extentOf(this.#db)
    // There is nothing to check before there is something to check it against.
    if (size === 0 || !(await this.#db('ledger.seal').first('number'))) return null
    return (await this.#db('spoor.ledger_check').insert({ total: size }).returning<CheckRow[]>('*'))[0]!
  }

  async #check(row: CheckRow): Promise<void> {
    let asked = row.asked_by !== null
    const { outside, evidenceKey } = this.#deps
    const slices = this.#deps.openSlices()
    const check = new LedgerCheck({
      db: this.#db,
      outside,
      evidenceKey,
      slices,
      checkId: row.id,
      hurried: () => asked,
      onProgress: async (done) => {
        const [now] = await this.#db('spoor.ledger_check')
          .where({ id: row.id })
          .update({ done, seen_at: this.#db.fn.now() })
          .returning<CheckRow[]>('*')
        asked = now?.asked_by !== null && now?.asked_by !== undefined
        return !now?.stop_asked && !this.#duty.stopping
      },
    })
    const { found, stopped } = await check.check().finally(() => slices.close())
    await this.#end(row.id, found, stopped ? 'Stopped before it was done.' : null)
    if (!stopped)
      await recordEvent(this.#db, {
        kind: 'custody',
        personId: row.asked_by,
        words: `checked the whole ledger: ${found === 0 ? 'everything matches its seals' : `${counted(found, 'place')} ${found === 1 ? 'does' : 'do'} not match`}`,
      })
  }

  async #end(id: number, found: number, trouble: string | null): Promise<void> {
    await this.#db('spoor.ledger_check').where({ id }).update({ ended_at: this.#db.fn.now(), found, trouble })
  }
}

/** Somebody wants to know now: a check that goes on hurries, else one begins. */
export async function askForCheck(db: Database, personId: number): Promise<void> {
  await db.transaction(async (trx) => {
    await trx.raw('lock table spoor.ledger_check in exclusive mode')
    const updated = await trx('spoor.ledger_check').whereNull('ended_at').update({ asked_by: personId })
    if (updated > 0) return
    await trx('spoor.ledger_check').insert({ asked_by: personId, total: (await extentOf(trx)).size })
  })
}
