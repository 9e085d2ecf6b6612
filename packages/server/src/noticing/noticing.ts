import { Noticer, type NoticingState } from '@spoor/core'
import type { Logger } from 'pino'
import type { Database } from '../database/knex.ts'
import { Duty } from '../database/duty.ts'
import { givesWay } from '../ledger/backlog.ts'
import { readNoticed } from './read.ts'
import { readSettings } from './settings.ts'
import { keepStories } from './stories.ts'
import { readWorld, type World } from './world.ts'

const restMs = 1000
const retryMs = 5000
const slice = 5000
const worldForMs = 15_000
/** Another one whenever a spell of tracking begins, ends or is put elsewhere. */
const covered = `select concat_ws(' ', count(*), count(to_at), max(from_at), max(to_at), min(from_at)) from spoor.coverage`
/** What it remembers is kept so often; after a stop it reads on from there and tells the same stories again. */
const keepEverySaves = 20_000
const keepEveryMs = 120_000

/**
 * Reads the ledger as it grows and keeps the stories of what stands out, on one server among all. It follows the
 * collector and never holds it up.
 */
export class Noticing {
  readonly #db: Database
  readonly #duty: Duty
  #noticer: Noticer | null = null
  #world: World | null = null
  #worldMs = 0
  #covered = ''
  #changedAt: string | null = null
  #readTo = 0n
  #keptTo = 0n
  #keptMs = 0
  readonly #waits = givesWay()

  constructor(db: Database, log: Logger) {
    this.#db = db
    const forget = () => (this.#noticer = null)
    this.#duty = new Duty(db, 'noticing', {
      round: () => this.#round(),
      away: forget,
      failed: (error) => {
        log.warn({ err: error }, 'noticing was interrupted and begins again')
        forget()
      },
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  async stop(): Promise<void> {
    await this.#duty.stop()
    if (this.#noticer && this.#readTo > this.#keptTo) await this.#keep().catch(() => undefined)
  }

  async #round(): Promise<number> {
    if (await this.#waits(this.#db)) return restMs
    return (await this.readOn()) > 0 ? 0 : restMs
  }

  /** Reads some saves. @returns how many. */
  async readOn(): Promise<number> {
    let noticer = await this.#ready()
    const read = () => readNoticed(this.#db, this.#readTo.toString(), slice, this.#world!.withGaps)
    let saves = await read()
    if (saves.length === 0) return 0
    // A field that was not there at the last look is tracked since; nothing can be said of it before it is known.
    if (saves.some((save) => save.changes.some(({ fieldId }) => this.#world!.field(fieldId) === undefined))) {
      this.#worldMs = -Infinity
      noticer = await this.#ready()
      saves = await read()
    }
    for (const save of saves) noticer.take(save)
    const stories = noticer.drain()
    const readTo = BigInt(saves.at(-1)!.id)
    await this.#db.transaction(async (trx) => {
      // Whoever keeps other settings meanwhile makes this reading void.
      const { changed_at } = await trx('spoor.noticing').forUpdate().first<{ changed_at: string | null }>('changed_at')
      if (changed_at !== this.#changedAt) return
      await keepStories(trx, stories)
      await trx('spoor.noticing').update({ read_save: readTo.toString() })
    })
    this.#readTo = readTo
    if (readTo - this.#keptTo >= keepEverySaves || performance.now() - this.#keptMs > keepEveryMs) await this.#keep()
    return saves.length
  }

  /** The noticer as it goes on, anew when settings were changed; fields are looked up again now and then. */
  async #ready(): Promise<Noticer> {
    const row = await this.#db('spoor.noticing').first<{ changed_at: string | null; covered: string }>(
      'changed_at',
      this.#db.raw(`(${covered}) as covered`),
    )
    // The first saves after a gap are those whose values may not join: they must not be read as if there were none.
    const stale = performance.now() - this.#worldMs > worldForMs || row.covered !== this.#covered
    if (this.#noticer && row.changed_at === this.#changedAt && !stale) return this.#noticer
    const settings = await readSettings(this.#db)
    this.#world = await readWorld(this.#db, settings.zone)
    this.#worldMs = performance.now()
    this.#covered = row.covered
    if (this.#noticer && row.changed_at === this.#changedAt) {
      this.#noticer = new Noticer(settings.rules, this.#world, this.#noticer.state)
      return this.#noticer
    }
    const kept = await this.#db('spoor.noticing').first<{ state: NoticingState | null; until_save: string }>(
      'state',
      'until_save',
    )
    this.#changedAt = row.changed_at
    this.#readTo = this.#keptTo = BigInt(kept.until_save)
    this.#keptMs = performance.now()
    return (this.#noticer = new Noticer(settings.rules, this.#world, kept.state ?? undefined))
  }

  async #keep(): Promise<void> {
    const updated = await this.#db('spoor.noticing')
      .whereRaw('changed_at is not distinct from ?::timestamptz', [this.#changedAt])
      .update({ state: JSON.stringify(this.#noticer!.state), until_save: this.#readTo.toString() })
    if (updated > 0) this.#keptTo = this.#readTo
    this.#keptMs = performance.now()
  }
}
