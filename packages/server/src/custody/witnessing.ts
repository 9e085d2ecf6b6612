import type { Witness } from '@spoor/contract'
import type { Logger } from 'pino'
import { raiseAlarm } from '../alarms/alarms.ts'
import type { Database } from '../database/knex.ts'
import { Duty } from '../database/duty.ts'
import { latestSeal, originOf } from './sealer.ts'
import { setWitnesses, witnessRows, type GivenSeal, type WitnessAtWork, type WitnessRow } from './witnesses.ts'

const minute = 60_000
const hour = 60 * minute
const day = 24 * hour

/** How often each kind is given a seal, where there is a new one. */
const everyMs: Readonly<Record<Witness['kind'], number>> = { authority: day, folder: hour, address: hour, mail: day }
const lookEveryMs = 5000
/** The first wait after a failure; each next is twice as long, up to an hour. */
const firstWaitMs = minute

export interface WitnessingDeps {
  db: Database
  log: Logger
  witnesses: readonly WitnessAtWork[]
  now?(): number
}

/** Gives seals to witnesses, on one server among all. Who takes none for twice their time is an alarm. */
export class Witnessing {
  readonly #deps: WitnessingDeps
  readonly #duty: Duty

  constructor(deps: WitnessingDeps) {
    this.#deps = deps
    this.#duty = new Duty(deps.db, 'witnessing', {
      round: async () => {
        await this.look()
        return lookEveryMs
      },
      failed: (error) => deps.log.error({ err: error }, 'witnesses could not be given the latest seal'),
      retryMs: minute,
    })
  }

  async start(): Promise<void> {
    await setWitnesses(this.#deps.db, this.#deps.witnesses)
    this.#duty.start()
  }

  stop(): Promise<void> {
    return this.#duty.stop()
  }

  #now(): number {
    return this.#deps.now?.() ?? Date.now()
  }

  /** Gives the latest seal to each witness whose time it is. */
  async look(): Promise<void> {
    const { db, witnesses } = this.#deps
    const seal = await latestSeal(db)
    if (!seal) return
    const given: GivenSeal = { number: Number(seal.number), note: seal.note, origin: await originOf(db) }
    const rows = await witnessRows(db)
    // One that does not answer keeps none of the others waiting.
    await Promise.all(
      witnesses.map(async (witness) => {
        const row = rows.find((one) => one.kind === witness.kind && one.place === witness.place)
        if (row && this.#isDue(row, given.number)) await this.#give(witness, row, given)
      }),
    )
  }

  #isDue(row: WitnessRow, sealNumber: number): boolean {
    if (Number(row.seal_number ?? 0) >= sealNumber) return false
    if (row.wanted) return true
    const waitMs = Math.min(hour, firstWaitMs * 2 ** Math.min(row.failures - 1, 10))
    if (row.failures > 0 && this.#now() - Date.parse(row.tried_at!) < waitMs) return false
    return row.last_at === null || this.#now() - Date.parse(row.last_at) >= everyMs[row.kind]
  }

  async #give(witness: WitnessAtWork, row: WitnessRow, seal: GivenSeal): Promise<void> {
    const { db } = this.#deps
    const at = new Date(this.#now()).toISOString()
    const place = `witness ${witness.kind} ${witness.place}`
    try {
      const answer = await witness.take(seal)
      await db.transaction(async (trx) => {
        await trx('spoor.witnessed')
          .insert({ witness_id: row.id, seal_number: seal.number, at, answer: answer && Buffer.from(answer) })
          .onConflict(['witness_id', 'seal_number'])
          .ignore()
        await trx('spoor.witness')
          .where({ id: row.id })
          .update({ tried_at: at, failures: 0, trouble: null, wanted: false })
        await trx('spoor.alarm')
          .where({ code: 'witness-silent', place, settled_at: null, over_at: null })
          .update({ over_at: at })
      })
    } catch (error) {
      const trouble = (error as Error).message
      await db('spoor.witness')
        .where({ id: row.id })
        .update({ tried_at: at, failures: row.failures + 1, trouble, wanted: false })
      const silentMs = this.#now() - Date.parse(row.last_at ?? row.since)
      if (silentMs >= 2 * everyMs[row.kind])
        await raiseAlarm(db, {
          code: 'witness-silent',
          sourceId: null,
          place,
          words: `The witness ${witness.place} takes no seal since ${row.last_at ?? row.since}: ${trouble}. Seals are made and kept as before; nobody outside has them meanwhile.`,
        })
    }
  }
}
