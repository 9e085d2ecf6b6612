import { stand, withFound, type Standings } from '@spoor/core'
import type { Logger } from 'pino'
import { Duty } from '../database/duty.ts'
import type { Database } from '../database/knex.ts'
import { underWay } from '../ledger/findings.ts'
import { foundColumns, type FoundRow } from '../ledger/found-record.ts'
import { givesWay } from '../ledger/backlog.ts'
import { movedOn } from '../ledger/thread.ts'
import { comingAfter } from './after.ts'
import { foundHere, toldAnew } from './anew.ts'
import { keepStanding, standingAt } from './kept.ts'
import { readSaves, type TypedSave } from './saves.ts'

const restMs = 500
const retryMs = 5000
const savesAtOnce = 2000
const foundAtOnce = 2000

/**
 * Keeps how every tracked record stands, on one server among all: it follows what is collected and what is found, in
 * transactions of its own.
 */
export class StandingRecords {
  readonly #db: Database
  readonly #duty: Duty
  readonly #waits = givesWay()

  constructor(db: Database, log: Logger) {
    this.#db = db
    this.#duty = new Duty(db, 'standing', {
      round: async () => {
        if (await this.#waits(db)) return restMs
        return (await this.readOn()) > 0 ? 0 : restMs
      },
      failed: (error) => log.warn({ err: error }, 'following how records stand was interrupted and goes on'),
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  async stop(): Promise<void> {
    await this.#duty.stop()
  }

  /** Reads on by one step. @returns how many saves and findings it took in. */
  async readOn(): Promise<number> {
    const saves = await this.#followSaves()
    // Of what was found before saves that are followed already only a look at whole trails may tell: it comes last.
    return saves > 0 ? saves : await this.#followFound()
  }

  async #followSaves(): Promise<number> {
    return await this.#db.transaction(async (trx) => {
      // Whoever erases waits here, and is waited for: what is gone must not come back from what was read before.
      const { read_save } = await trx('spoor.standing_read').forUpdate().first<{ read_save: string }>('read_save')
      const saves = await wholeStatements(trx, read_save)
      if (saves.length === 0) return 0
      const until = saves.at(-1)!.id
      for (const typeId of new Set(saves.map((save) => save.typeId))) {
        const own = saves.filter((save) => save.typeId === typeId)
        const keys = keysOf(own)
        const records = await standingAt(trx, typeId, keys)
        stand(records, own, await comingAfter(trx, records, own))
        await keepStanding(trx, typeId, keys, records)
      }
      await trx('spoor.standing_read').update({ read_save: until })
      return saves.length
    })
  }

  async #followFound(): Promise<number> {
    return await this.#db.transaction(async (trx) => {
      const { read_save } = await trx('spoor.standing_read').forUpdate().first<{ read_save: string }>('read_save')
      const { rows: takings } = await trx.raw<{ rows: { id: number; type_id: number; done: string }[] }>(
        `select t.id, t.type_id, coalesce(s.records, 0) as done
           from spoor.taking t left join spoor.standing_taking s on s.taking_id = t.id
          where t.records > coalesce(s.records, 0) order by t.id limit 1`,
      )
      const [taking] = takings
      if (!taking) return 0
      const { rows } = await trx.raw<{ rows: Row[] }>(
        `select ${foundColumns}, t.field_ids from ledger.found f join spoor.taking t on t.id = f.taking_id
          where f.taking_id = ? and f.place >= ? order by f.place limit ?`,
        [taking.id, taking.done, foundAtOnce],
      )
      if (rows.length === 0) return 0
      const { type_id: typeId } = taking
      const keys = rows.map((row) => row.record_key)
      const records = await standingAt(trx, typeId, keys)
      const written = new Set(keys)
      for (const { key, at } of await takeFound(trx, rows, records)) {
        records.delete(key)
        for (const bearer of [key, ...(await movedOn(trx, typeId, key, longBefore(at), read_save))]) {
          const anew = await toldAnew(trx, typeId, bearer, read_save)
          written.add(bearer)
          if (anew) records.set(bearer, anew)
        }
      }
      await keepStanding(trx, typeId, [...written], records)
      await trx.raw(
        `insert into spoor.standing_taking (taking_id, records) values (?, ?)
         on conflict (taking_id) do update set records = excluded.records`,
        [taking.id, (BigInt(taking.done) + BigInt(rows.length)).toString()],
      )
      return rows.length
    })
  }
}

/** Longer than a transaction of a business goes on. */
const longMs = 7 * 24 * 3_600_000
const longBefore = (at: string) => new Date(Date.parse(at) - longMs).toISOString()

type Row = FoundRow & { field_ids: number[] }

/** @returns under which keys records were found of which only their whole trail tells how they stand */
async function takeFound(
  trx: Database,
  rows: readonly Row[],
  records: Standings,
): Promise<{ key: string; at: string }[]> {
  const places = await contestedPlaces(trx, rows)
  return rows.flatMap((row) => {
    const { record_key: key, at } = row
    const next = places.has(row.place) ? null : withFound(records.get(key), foundHere(row, at))
    if (next === null) return [{ key, at }]
    records.set(key, next)
    return []
  })
}

/**
 * Of what was found the places of records that were being written, or came, went or got another key since: what was found
 * may be of another record, or older than a save that was captured before it.
 */
async function contestedPlaces(trx: Database, found: readonly Row[]): Promise<Set<string>> {
  const since = longBefore(found.reduce((least, { at }) => (at < least ? at : least), found[0]!.at))
  const near = `case when s.captured_at > f.at then s.action <> 'change' or s.key_before is not null
                     else s.captured_at > f.at - interval '7 days' and ${underWay} end`
  const { rows } = await trx.raw<{ rows: { place: string }[] }>(
    `select f.place from ledger.found f join spoor.taking t on t.id = f.taking_id
      where f.taking_id = ? and f.place between ? and ?
        and (exists (select from ledger.save s where s.type_id = f.type_id and s.record_key = f.record_key and s.captured_at > ? and ${near})
          or exists (select from ledger.save s where s.type_id = f.type_id and s.key_before = f.record_key and s.captured_at > ? and ${near}))`,
    [found[0]!.taking_id, found[0]!.place, found.at(-1)!.place, since, since],
  )
  return new Set(rows.map((row) => row.place))
}

const keysOf = (saves: readonly TypedSave[]) => [
  ...new Set(saves.flatMap(({ key, keyBefore }) => (keyBefore === null ? [key] : [key, keyBefore]))),
]

/** The next saves after one; a statement that moves several records is never cut. */
async function wholeStatements(trx: Database, after: string): Promise<TypedSave[]> {
  const saves = await readSaves(trx, 's.id > ?', [after], savesAtOnce)
  let last = saves.at(-1)
  while (saves.length >= savesAtOnce && last && last.keyBefore !== null) {
    const more = await readSaves(trx, 's.id > ?', [last.id], savesAtOnce)
    const end = more.findIndex((save) => save.keyBefore === null || save.at !== last!.at)
    saves.push(...(end < 0 ? more : more.slice(0, end)))
    if (end >= 0 || more.length === 0) break
    last = saves.at(-1)
  }
  return saves
}
