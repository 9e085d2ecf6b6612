import {
  addDays,
  atWallClock,
  groupBy,
  isMore,
  nextSpeaking,
  pairOf,
  unusual,
  usualBefore,
  usualDays,
  type Scope,
} from '@spoor/core'
import type { Knex } from 'knex'
import type { Logger } from 'pino'
import { boundArray, type Database } from '../database/knex.ts'
import { Duty } from '../database/duty.ts'
import { Problem, unforeseen } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { People } from '../people/people.ts'
import { arrived, Buckets, canMatch } from './arrived.ts'
import { countedTogether, pairDays, savesNamed, watchedScopes, type BucketRow, type Counting } from './in-watch.ts'
import { isCounting, occasionsOf, type Occasional } from './occasions.ts'
import { putMessages, watchRows, type WatchRow } from './store.ts'

const restMs = 500
const retryMs = 5000
const restAfterTroubleMs = 30_000
/** What does not come save by save is looked for less often. */
const occasionsEveryMs = 2000
/** So many saves at most are looked at in one round, so that a backlog holds nothing up for long. */
const mostAtOnce = 20_000
/** More groups than these are not kept of one round. */
const mostGroups = 5000
/** What did not reach its threshold within its spell can no longer; runs go on for a day at most. */
const forgottenAfterDays = 40
const forgetEveryMs = 3_600_000

/** A watch that counts saves as they come, with what it means for its owner now. */
interface Due {
  watch: WatchRow
  scopes: readonly Scope[]
  fires: Counting
}

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
  /** Watches that are left alone until then: that failed, or look for what comes seldom. */
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
    const { db } = this.#deps
    const head = await db('ledger.head').first<{ last_save_id: string }>('last_save_id')
    const watches = (await watchRows(db).whereNot('w.state', 'paused')) as WatchRow[]
    const nowMs = this.#now()
    const owners = new Map<number, SignedIn | null>()
    const due: Due[] = []
    let more = false
    for (const watch of watches) {
      const behind = BigInt(head.last_save_id) - BigInt(watch.until_save)
      const { fires } = watch
      if (behind <= 0n && isCounting(fires)) continue
      if ((this.#restUntil.get(watch.id) ?? 0) > performance.now()) continue
      await this.#orRest(watch, async () => {
        const meant = await this.#meaningOf(watch, owners, head.last_save_id)
        if (!meant) return
        if (isCounting(fires)) due.push({ watch, scopes: meant.scopes, fires })
        else {
          await this.#lookForOccasions(watch, fires, { ...meant, nowMs })
          this.#restUntil.set(watch.id, performance.now() + occasionsEveryMs)
        }
      })
      more ||= isCounting(fires) && behind > BigInt(mostAtOnce)
    }
    for (const [after, together] of groupBy(due, ({ watch }) => watch.until_save)) {
      const behind = BigInt(head.last_save_id) - BigInt(after)
      const upTo = behind > BigInt(mostAtOnce) ? String(BigInt(after) + BigInt(mostAtOnce)) : head.last_save_id
      try {
        await this.#lookTogether(together, { after, upTo }, nowMs)
      } catch {
        // Whichever it was: one that fails keeps none of the others from being looked after.
        for (const one of together)
          await this.#orRest(one.watch, () => this.#lookTogether([one], { after, upTo }, nowMs))
      }
    }
    await this.#forget()
    return more
  }

  /** Does something for a watch; where it fails the watch says so and is left alone for a while. */
  async #orRest(watch: WatchRow, work: () => Promise<void>): Promise<void> {
    const { db, log } = this.#deps
    try {
      await work()
    } catch (error) {
      log.warn({ err: error, watch: watch.id }, 'a watch could not be looked after and is tried again')
      this.#restUntil.set(watch.id, performance.now() + restAfterTroubleMs)
      await db('spoor.watch')
        .where({ id: watch.id })
        .update({ trouble: error instanceof Problem ? error.message : unforeseen })
    }
  }

  /** What a watch means for its owner; null where there is none any more. */
  async #meaningOf(
    watch: WatchRow,
    owners: Map<number, SignedIn | null>,
    head: string,
  ): Promise<{ owner: SignedIn; scopes: readonly Scope[] } | null> {
    const { db } = this.#deps
    if (!owners.has(watch.owner_id)) owners.set(watch.owner_id, await new People(db).find(watch.owner_id))
    const owner = owners.get(watch.owner_id)
    if (owner) return { owner, scopes: await watchedScopes(db, watch, owner) }
    await db('spoor.watch').where({ id: watch.id }).update({
      trouble: 'Its owner may not sign in any more, so it looks at nothing. Make it again as your own.',
      until_save: head,
    })
    return null
  }

  /** Looks at the same saves with several watches: they are read once. */
  async #lookTogether(due: readonly Due[], numbers: { after: string; upTo: string }, nowMs: number): Promise<void> {
    const { db } = this.#deps
    const times = await this.#timesOf(numbers.after, numbers.upTo)
    const counted = times === null ? new Map<number, BucketRow[]>() : await this.#counted(due, numbers, times, nowMs)
    await db.transaction(async (trx) => {
      const held = await this.#hold(
        trx,
        due.map(({ watch }) => watch.id),
        numbers.after,
      )
      await this.#count(trx, held, { due, counted, nowMs })
      await trx('spoor.watch')
        .whereIn(
          'id',
          held.map(({ id }) => id),
        )
        .update({ until_save: numbers.upTo, trouble: null })
    })
  }

  /** By watch, the saves in scope as they are counted together. */
  async #counted(
    due: readonly Due[],
    numbers: { after: string; upTo: string },
    times: { from: string; to: string },
    nowMs: number,
  ): Promise<Map<number, BucketRow[]>> {
    const { db } = this.#deps
    const counted = new Map<number, BucketRow[]>()
    const matched = due.filter(({ scopes }) => canMatch(scopes))
    const buckets = matched.map(({ watch, scopes, fires }) => new Buckets(scopes, fires, watch.zone))
    if (matched.length > 0)
      for await (const saves of arrived(db, numbers, times, {
        scopes: matched.flatMap(({ scopes }) => scopes),
        moves: matched.some(({ fires }) => fires.fires === 'sum'),
      }))
        for (const one of buckets) one.add(saves, nowMs)
    for (const [at, { watch }] of matched.entries()) counted.set(watch.id, buckets[at]!.rows(mostGroups))
    for (const { watch, scopes, fires } of due)
      if (!counted.has(watch.id))
        counted.set(
          watch.id,
          await countedTogether(db, { scopes, numbers, times, nowMs }, fires, {
            zone: watch.zone,
            enough: false,
            most: mostGroups,
          }),
        )
    return counted
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

  /** Watches as they are, held until the transaction ends, without those that somebody changed meanwhile. */
  async #hold(trx: Knex.Transaction, ids: readonly number[], after: string): Promise<WatchRow[]> {
    return await trx('spoor.watch')
      .whereIn('id', [...ids])
      .where({ until_save: after })
      .whereNull('removed_at')
      .whereNot('state', 'paused')
      .orderBy('id')
      .forUpdate()
      .select<WatchRow[]>('*')
  }

  /** Adds saves to those of their run, hour or day, and fires once there are enough. */
  async #count(
    trx: Knex.Transaction,
    watches: readonly WatchRow[],
    { due, counted, nowMs }: { due: readonly Due[]; counted: ReadonlyMap<number, readonly BucketRow[]>; nowMs: number },
  ): Promise<void> {
    const scopesOf = new Map(due.map(({ watch, scopes }) => [watch.id, scopes]))
    const rows = watches.flatMap(({ id }) => (counted.get(id) ?? []).map((row) => ({ id, ...row })))
    if (rows.length === 0) return
    const column = (of: (row: (typeof rows)[number]) => string | number | null) => boundArray(rows.map(of))
    const { rows: kept } = await trx.raw<{ rows: KeptRow[] }>(
      `insert into spoor.watch_firing as f (watch_id, bucket, saves, from_at, to_at, save_ids, total)
       select watch_id, bucket, saves, from_at, to_at, save_ids::bigint[], total
         from unnest(?::int[], ?::text[], ?::int[], ?::timestamptz[], ?::timestamptz[], ?::text[], ?::numeric[])
              as r(watch_id, bucket, saves, from_at, to_at, save_ids, total)
        order by watch_id, bucket
       on conflict (watch_id, bucket) do update set saves = f.saves + excluded.saves,
         from_at = least(f.from_at, excluded.from_at), to_at = greatest(f.to_at, excluded.to_at),
         save_ids = (f.save_ids || excluded.save_ids)[1:${savesNamed}], total = f.total + excluded.total
       returning id, watch_id, bucket, saves, total::text, usual::text, fired_at`,
      [
        column(({ id }) => id),
        column(({ bucket }) => bucket),
        column(({ saves }) => saves),
        column(({ from_at }) => from_at),
        column(({ to_at }) => to_at),
        column(({ save_ids }) => `{${save_ids.join(',')}}`),
        column(({ total }) => total),
      ],
    )
    const watchOf = new Map(watches.map((watch) => [watch.id, watch]))
    for (const watch of watches)
      if (watch.fires.fires === 'unusual')
        await askUsual(
          trx,
          watch,
          scopesOf.get(watch.id)!,
          kept.filter((row) => row.watch_id === watch.id && row.usual === null),
          nowMs,
        )
    const fired = kept.flatMap(({ id, watch_id, saves, total, usual, fired_at }) => {
      const watch = watchOf.get(watch_id)!
      const { fires } = watch
      const enough =
        (fires.fires === 'saves' && saves > fires.more) ||
        (fires.fires === 'sum' && total !== null && isMore(total, fires.over)) ||
        (fires.fires === 'unusual' && unusual(saves, Number(usual)))
      return fired_at === null && enough ? [{ watch, firingId: id }] : []
    })
    await fire(trx, fired, nowMs)
  }

  /** Looks at what is no saves to be counted, and keeps that it did: each occasion is told of once. */
  async #lookForOccasions(
    watch: WatchRow,
    fires: Occasional,
    meant: { owner: SignedIn; scopes: readonly Scope[]; nowMs: number },
  ): Promise<void> {
    const { db } = this.#deps
    const occasions = await occasionsOf(db, fires, { watch, ...meant })
    if (occasions.length === 0 && watch.trouble === null) return
    await db.transaction(async (trx) => {
      const [held] = await this.#hold(trx, [watch.id], watch.until_save)
      if (!held) return
      const told = new Set(occasions.filter((one) => one.fires).map(({ bucket }) => bucket))
      const fresh =
        occasions.length === 0
          ? []
          : await trx('spoor.watch_firing')
              .insert(
                occasions.map(({ bucket, from, to, saves, saveIds, said }) => ({
                  watch_id: watch.id,
                  bucket,
                  saves,
                  from_at: from,
                  to_at: to,
                  save_ids: [...saveIds],
                  said: JSON.stringify(said),
                })),
              )
              .onConflict(['watch_id', 'bucket'])
              .ignore()
              .returning<{ id: string; bucket: string }[]>(['id', 'bucket'])
      await fire(
        trx,
        fresh.filter(({ bucket }) => told.has(bucket)).map(({ id }) => ({ watch: held, firingId: id })),
        meant.nowMs,
      )
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

interface KeptRow {
  id: string
  watch_id: number
  bucket: string
  saves: number
  total: string | null
  usual: string | null
  fired_at: string | null
}

/** Keeps with what was counted of somebody and a record type on a day how much is usual for the two, by the days before. */
async function askUsual(
  trx: Knex.Transaction,
  watch: WatchRow,
  scopes: readonly Scope[],
  rows: KeptRow[],
  nowMs: number,
): Promise<void> {
  const asked = rows.flatMap((row) => {
    const pair = pairOf(row.bucket)
    return pair ? [{ row, pair }] : []
  })
  if (asked.length === 0) return
  const days = asked.map(({ pair }) => pair.day).sort()
  const at = (day: string) => new Date(atWallClock(day, '00:00', watch.zone)).toISOString()
  const counts = await pairDays(
    trx,
    { scopes, times: { from: at(addDays(days[0]!, -usualDays.back)), to: at(days.at(-1)!) }, nowMs },
    { zone: watch.zone, actorIds: [...new Set(asked.map(({ pair }) => pair.actorId))] },
  )
  const ofPair = groupBy(counts, ({ actorId, typeId }) => `${actorId} ${typeId}`)
  for (const { row, pair } of asked)
    row.usual = String(usualBefore(pair.day, ofPair.get(`${pair.actorId} ${pair.typeId}`) ?? []) ?? Number.NaN)
  await trx.raw(
    `update spoor.watch_firing f set usual = u.usual from unnest(?::bigint[], ?::numeric[]) as u(id, usual) where f.id = u.id`,
    [boundArray(asked.map(({ row }) => row.id)), boundArray(asked.map(({ row }) => row.usual))],
  )
}

/** Notes what fired, and for whom a message waits until when. A muted watch tells nobody. */
async function fire(
  trx: Knex.Transaction,
  fired: readonly { watch: WatchRow; firingId: string }[],
  nowMs: number,
): Promise<void> {
  if (fired.length === 0) return
  await trx.raw('update spoor.watch_firing set fired_at = ?::timestamptz where id = any(?::bigint[])', [
    new Date(nowMs).toISOString(),
    boundArray(fired.map(({ firingId }) => firingId)),
  ])
  const dueOf = new Map<WatchRow, string>()
  const due = (watch: WatchRow) => {
    const known = dueOf.get(watch) ?? new Date(nextSpeaking(watch, nowMs)).toISOString()
    dueOf.set(watch, known)
    return known
  }
  await putMessages(
    trx,
    fired
      .filter(({ watch }) => watch.state !== 'muted')
      .map(({ watch, firingId }) => ({ watch, firingId, dueAt: due(watch) })),
  )
}
