import { atWallClock, nextSpeaking, wallClock, weekday } from '@spoor/core'
import type { Knex } from 'knex'
import type { Logger } from 'pino'
import type { Database } from '../database/knex.ts'
import { Duty } from '../database/duty.ts'
import { People } from '../people/people.ts'
import { countedTogether, daysWithSaves, savesNamed, watchedScopes, type BucketRow } from './in-watch.ts'
import { putMessages, watchRows, type WatchRow } from './store.ts'

const restMs = 500
const retryMs = 5000
const restAfterTroubleMs = 30_000
/** So many saves at most are looked at in one round, so that a backlog holds nothing up for long. */
const mostAtOnce = 20_000
/** More groups than these are not kept of one round. */
const mostGroups = 5000
/** What did not reach its threshold within its spell can no longer; runs go on for a day at most. */
const forgottenAfterDays = 40
const forgetEveryMs = 3_600_000
/** What came in time is collected by then. */
const collectedWithinMs = 2 * 60_000

export interface WatchingDeps {
  db: Database
  log: Logger
  now?(): number
}

/**
 * Looks at what was collected with the eyes of every watch, on one server among all. What fires and how far it looked are kept in
 * one transaction, so that after a stop nothing fires twice and nothing is missed.
 */
export class Watching {
  readonly #deps: WatchingDeps
  readonly #duty: Duty
  #forgotMs = Number.NEGATIVE_INFINITY
  /** Watches that failed, and until when each is left alone. */
  readonly #restUntil = new Map<number, number>()

  constructor(deps: WatchingDeps) {
    this.#deps = deps
    this.#duty = new Duty(deps.db, 'watches', {
      round: async () => ((await this.look()) ? 0 : restMs),
      failed: (error) => deps.log.error({ err: error }, 'watches could not look at what came and try again'),
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  stop(): Promise<void> {
    return this.#duty.stop()
  }

  #now(): number {
    return this.#deps.now?.() ?? Date.now()
  }

  /** One look for each watch. @returns whether there is more to look at */
  async look(): Promise<boolean> {
    const { db, log } = this.#deps
    const head = await db('ledger.head').first<{ last_save_id: string }>('last_save_id')
    const watches = (await watchRows(db).whereNot('w.state', 'paused')) as WatchRow[]
    let more = false
    for (const watch of watches) {
      const behind = BigInt(head.last_save_id) - BigInt(watch.until_save)
      if (behind <= 0n && watch.fires.fires === 'saves') continue
      if ((this.#restUntil.get(watch.id) ?? 0) > performance.now()) continue
      // One that fails keeps none of the others from being looked after.
      try {
        await this.#lookWith(watch, head.last_save_id)
      } catch (error) {
        log.warn({ err: error, watch: watch.id }, 'a watch could not be looked after and is tried again')
        this.#restUntil.set(watch.id, performance.now() + restAfterTroubleMs)
        await db('spoor.watch')
          .where({ id: watch.id })
          .update({ trouble: (error as Error).message })
      }
      more ||= behind > BigInt(mostAtOnce)
    }
    await this.#forget()
    return more
  }

  async #lookWith(watch: WatchRow, head: string): Promise<void> {
    const { db } = this.#deps
    const owner = await new People(db).find(watch.owner_id)
    if (!owner) {
      await db('spoor.watch').where({ id: watch.id }).update({
        trouble: 'Its owner may not sign in any more, so it looks at nothing. Make it again as your own.',
        until_save: head,
      })
      return
    }
    const scopes = await watchedScopes(db, watch.scope, owner)
    const nowMs = this.#now()
    if (watch.fires.fires === 'missing') return await this.#lookForMissing(watch, scopes, nowMs)
    const after = watch.until_save
    const upTo = BigInt(head) - BigInt(after) > BigInt(mostAtOnce) ? String(BigInt(after) + BigInt(mostAtOnce)) : head
    const times = await this.#timesOf(after, upTo)
    const rows =
      times === null
        ? []
        : await countedTogether(
            db,
            { scopes, numbers: { after, upTo }, times, nowMs },
            { within: watch.fires.within, zone: watch.zone, more: 0, most: mostGroups },
          )
    const { more } = watch.fires
    await db.transaction(async (trx) => {
      const held = await this.#hold(trx, watch)
      if (!held) return
      for (const row of rows) await this.#count(trx, held, row, { more, nowMs })
      await trx('spoor.watch').where({ id: watch.id }).update({ until_save: upTo, trouble: null })
    })
  }

  /** When the saves of some numbers were made: said outright it spares the database all other months. */
  async #timesOf(after: string, upTo: string): Promise<{ from: string; to: string } | null> {
    const { rows } = await this.#deps.db.raw<{ rows: { from: string | null; to: string | null }[] }>(
      'select min(captured_at) as from, max(captured_at) as to from ledger.save where id > ?::bigint and id <= ?::bigint',
      [after, upTo],
    )
    const { from, to } = rows[0]!
    return from === null || to === null ? null : { from, to }
  }

  /** The watch as it is, held until the transaction ends; null where somebody changed it meanwhile. */
  async #hold(trx: Knex.Transaction, watch: WatchRow): Promise<WatchRow | null> {
    const now = await trx('spoor.watch')
      .where({ id: watch.id, until_save: watch.until_save })
      .whereNull('removed_at')
      .whereNot('state', 'paused')
      .forUpdate()
      .first<WatchRow | undefined>('*')
    return now ?? null
  }

  /** Adds saves to those of their run, hour or day, and fires once there are enough. */
  async #count(
    trx: Knex.Transaction,
    watch: WatchRow,
    row: BucketRow,
    { more, nowMs }: { more: number; nowMs: number },
  ): Promise<void> {
    const { rows } = await trx.raw<{ rows: { id: string; saves: number; fired_at: string | null }[] }>(
      `insert into spoor.watch_firing as f (watch_id, bucket, saves, from_at, to_at, save_ids)
       values (?, ?, ?, ?, ?, ?::bigint[])
       on conflict (watch_id, bucket) do update set saves = f.saves + excluded.saves,
         from_at = least(f.from_at, excluded.from_at), to_at = greatest(f.to_at, excluded.to_at),
         save_ids = (f.save_ids || excluded.save_ids)[1:${savesNamed}]
       returning id, saves, fired_at`,
      [watch.id, row.bucket, row.saves, row.from_at, row.to_at, row.save_ids],
    )
    const firing = rows[0]!
    if (firing.fired_at === null && firing.saves > more) await fire(trx, watch, firing.id, nowMs)
  }

  /** Each day once, as soon as its time is over: whether something came before it. */
  async #lookForMissing(
    watch: WatchRow,
    scopes: Awaited<ReturnType<typeof watchedScopes>>,
    nowMs: number,
  ): Promise<void> {
    const { db } = this.#deps
    const { fires, zone } = watch
    if (fires.fires !== 'missing') return
    const day = wallClock(nowMs, zone).date
    const [beginMs, byMs] = [atWallClock(day, '00:00', zone), atWallClock(day, fires.by, zone)]
    // What was not there yet when the watch was made is not missing.
    if (nowMs < byMs + collectedWithinMs || !fires.days.includes(weekday(day)) || Date.parse(watch.made_at) > byMs)
      return
    const bucket = `missing:${day}`
    if (await db('spoor.watch_firing').where({ watch_id: watch.id, bucket }).first('id')) return
    const [from, to] = [new Date(beginMs).toISOString(), new Date(byMs).toISOString()]
    const came = await daysWithSaves(db, { scopes, times: { from, to }, nowMs }, { zone, by: fires.by })
    await db.transaction(async (trx) => {
      const held = await this.#hold(trx, watch)
      if (!held) return
      const [firing] = await trx('spoor.watch_firing')
        .insert({ watch_id: watch.id, bucket, saves: 0, from_at: from, to_at: to, save_ids: [] })
        .onConflict(['watch_id', 'bucket'])
        .ignore()
        .returning<{ id: string }[]>('id')
      if (firing && !came.has(day)) await fire(trx, held, firing.id, nowMs)
      await trx('spoor.watch').where({ id: watch.id }).update({ trouble: null })
    })
  }

  /** What did not fire is kept only as long as it still could. */
  async #forget(): Promise<void> {
    if (performance.now() - this.#forgotMs < forgetEveryMs) return
    this.#forgotMs = performance.now()
    await this.#deps
      .db('spoor.watch_firing')
      .whereNull('fired_at')
      .whereRaw('to_at < now() - make_interval(days => ?)', [forgottenAfterDays])
      .delete()
  }
}

/** Notes that it fired, and for whom a message waits until when. A muted watch tells nobody. */
async function fire(trx: Knex.Transaction, watch: WatchRow, firingId: string, nowMs: number): Promise<void> {
  await trx('spoor.watch_firing')
    .where({ id: firingId })
    .update({ fired_at: new Date(nowMs).toISOString() })
  if (watch.state === 'muted') return
  const due = new Date(nextSpeaking(watch, nowMs)).toISOString()
  await putMessages(trx, watch, firingId, due)
}
