import type { Logger } from 'pino'
import { counted } from '@spoor/core'
import { raiseAlarm } from '../alarms/alarms.ts'
import { attest, interruptCoverage } from '../capture/attest.ts'
import { forget, readHead, readMissed, readTraces } from '../capture/outbox.ts'
import { Duty } from '../database/duty.ts'
import type { Database } from '../database/knex.ts'
import { askForTakings } from '../found/ask.ts'
import type { Sources } from '../sources/registry.ts'
import { sampleActivity } from '../tracking/activity.ts'
import { lookForUnseen } from '../tracking/blind-spots.ts'
import { planInForce } from '../tracking/plan-store.ts'
import { settleInstallations } from '../tracking/put-in-force.ts'
import { refitCapture } from '../tracking/refit.ts'

export interface WatchDeps {
  db: Database
  sources: Sources
  log: Logger
}

/** Well within the minute in which an altered trigger is to be noticed. */
const lookEveryMs = 30_000
const retryMs = 5000
const unseenEveryMs = 3_600_000

/** Watches over the capture of one source, on one server among all; a long look never holds collecting up. */
export class Watch {
  readonly #deps: WatchDeps
  readonly #sourceId: number
  readonly #duty: Duty
  #unseenMs = Number.NEGATIVE_INFINITY

  constructor(sourceId: number, deps: WatchDeps) {
    this.#sourceId = sourceId
    this.#deps = deps
    this.#duty = new Duty(deps.db, `watch of source ${sourceId}`, {
      round: async () => {
        await this.look()
        return lookEveryMs
      },
      // That a source cannot be reached is told by collecting from it.
      failed: (error) => deps.log.warn({ err: error, sourceId }, 'looking after the capture was interrupted'),
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  async stop(): Promise<void> {
    await this.#duty.stop()
  }

  /** Looks whether the capture is still what the plan installed, and makes partitions ahead of need. */
  async look(): Promise<void> {
    const { db, sources } = this.#deps
    for (const months of [0, 1])
      await db.raw(`select ledger.ensure_month((now() + make_interval(months => ?))::date)`, [months])
    const source = await sources.connection(this.#sourceId)
    await this.#count(source)
    for (const words of await settleInstallations(db, sources, this.#sourceId)) this.#deps.log.info(words)
    if ((await readHead(source)) === null) return
    const words = await attest(db, source, this.#sourceId)
    if (words.length === 0) {
      await refitCapture(db, sources, this.#sourceId)
      const inForce = await planInForce(db, this.#sourceId)
      await db.transaction((trx) => askForTakings(trx, this.#sourceId, inForce))
    }
    words.push(...(await this.#missed(source)), ...(await this.#meddling(source)))
    await this.#keep(words)
  }

  /** What is wrong with the source stands beside how far it is collected. */
  async #keep(words: readonly string[]): Promise<void> {
    await this.#deps
      .db('ledger.collector_state')
      .where({ source_id: this.#sourceId })
      .update({ watch_words: words.length > 0 ? words.join(' ') : null })
  }

  /** Who laid hands on captured rows, or did and covered it up: the numbers of the traces have no holes else. */
  async #meddling(source: Database): Promise<string[]> {
    const { db } = this.#deps
    const state = await db('ledger.collector_state')
      .where({ source_id: this.#sourceId })
      .first<{ traces: string | null }>('traces')
    const known = Number(state.traces ?? 0)
    const { meddling, begun, ids } = await readTraces(source, known)
    const told = meddling.map(
      ({ deed, login, times, last }) =>
        `The login ${login} laid hands on captured rows before they were collected (${deed}, ${times === 1 ? 'once' : `${times} times`}, last at ${last}). Changes from before that moment may be missing from the trail or not be as they were, and there may be some that nobody made.`,
    )
    if (state.traces !== null) {
      const hidden = begun - known - ids.filter((id) => Number(id) > known && Number(id) <= begun).length
      if (hidden > 0)
        told.push(
          `Captured rows were touched ${hidden === 1 ? 'once' : `${hidden} times`} without a trace that stayed (numbers ${known + 1} to ${begun}): whoever did it took it back, has not finished, or covered it up.`,
        )
      if (begun < known)
        told.push(
          `The numbers of the traces that handling captured rows leaves go back from ${known} to ${begun}: they were set back.`,
        )
    }
    for (const words of told) await raiseAlarm(db, { code: 'outbox-altered', sourceId: this.#sourceId, words })
    if (Number(state.traces ?? -1) !== begun)
      await db('ledger.collector_state').where({ source_id: this.#sourceId }).update({ traces: begun })
    await forget(source, 'meddling', ids)
    return told
  }

  /** What was let through uncaptured is a gap of its type, counted, and told until a plan is put in force again. */
  async #missed(source: Database): Promise<string[]> {
    const { db } = this.#deps
    for (const { typeId, saves, first, last, words, ids } of await readMissed(source)) {
      const type = await db('spoor.record_type').where({ id: typeId }).first<{ plural: string } | undefined>('plural')
      if (!type) continue
      const because = `${counted(saves, 'save')} could not be captured and were let through`
      await interruptCoverage(db, typeId, first, last, because)
      const told = `Of ${type.plural}, ${because}, as the plan says, from ${first} to ${last}. The source said of a ${words}.`
      await raiseAlarm(db, { code: 'capture-missed', sourceId: this.#sourceId, words: told })
      await forget(source, 'missed', ids)
    }
    const standing = await db('spoor.alarm')
      .where({ source_id: this.#sourceId, settled_at: null, over_at: null })
      .whereIn('code', ['capture-missed', 'capture-untried'])
      .orderBy('id')
      .select<{ words: string }[]>('words')
    return standing.map((alarm) => alarm.words)
  }

  /** Counts what is written in the source, tracked or not, and looks for what changes unseen. */
  async #count(source: Database): Promise<void> {
    await sampleActivity(this.#deps.db, source, this.#sourceId, { now: false })
    if (performance.now() - this.#unseenMs < unseenEveryMs) return
    this.#unseenMs = performance.now()
    await lookForUnseen(this.#deps.db, source, this.#sourceId)
  }
}
