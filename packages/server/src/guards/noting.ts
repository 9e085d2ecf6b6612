import { guardActs, listed } from '@spoor/core'
import type { Logger } from 'pino'
import { raiseAlarm } from '../alarms/alarms.ts'
import { refusalsOf } from '../capture/guards.ts'
import { Duty } from '../database/duty.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { unknownName } from '../collector/interpret.ts'
import type { Sources } from '../sources/registry.ts'
import { guardTypes } from '../tracking/guards.ts'

const restMs = 2000
const retryMs = 5000
const atOnce = 1000

/** Takes from one source what its guards refused, warned of and let by, on one server among all. */
export class GuardNotes {
  readonly #db: Database
  readonly #sources: Sources
  readonly #sourceId: number
  readonly #duty: Duty

  constructor(sourceId: number, { db, sources, log }: { db: Database; sources: Sources; log: Logger }) {
    this.#db = db
    this.#sources = sources
    this.#sourceId = sourceId
    this.#duty = new Duty(db, `guards of source ${sourceId}`, {
      round: async () => ((await this.look()) ? 0 : restMs),
      // That a source cannot be reached is told by collecting from it.
      failed: (error) => log.warn({ err: error, sourceId }, 'noting what guards met was interrupted'),
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  async stop(): Promise<void> {
    await this.#duty.stop()
  }

  /** @returns whether there may be more */
  async look(): Promise<boolean> {
    const guards = await this.#db('spoor.guard')
      .where({ source_id: this.#sourceId })
      .select<{ id: number; counted: string }[]>('id', 'counted')
    if (guards.length === 0) return false
    const source = await this.#sources.connection(this.#sourceId)
    const { rows: made } = await source.raw<{ rows: { there: boolean }[] }>(
      `select to_regclass('spoor_capture.guarded') is not null as there`,
    )
    if (!made[0]!.there) return false
    await this.#count(source, guards)
    await this.#openings(source)
    const [by, told] = [await this.#letBy(source), await this.#told(source)]
    return by === atOnce || told === atOnce
  }

  /** The source counts on when it takes a refused transaction back. */
  async #count(source: Database, guards: readonly { id: number; counted: string }[]): Promise<void> {
    const { rows: there } = await source.raw<{ rows: { id: number }[] }>(
      `select w.id from unnest(?::int[]) as w(id) where to_regclass(format('spoor_capture.guard_%s_refused', w.id)) is not null`,
      [boundArray(guards.map(({ id }) => id))],
    )
    if (there.length === 0) return
    const { rows } = await source.raw<{ rows: { id: number; counted: string; started: string }[] }>(
      there
        .map(
          ({ id }) =>
            `select ${id} as id, case when is_called then last_value else 0 end as counted, pg_postmaster_start_time() as started from ${refusalsOf(id)}`,
        )
        .join(' union all '),
    )
    const state = await this.#db('spoor.source')
      .where({ id: this.#sourceId })
      .first<{ guards_since: string | null }>('guards_since')
    const certain = state.guards_since === null || state.guards_since === rows[0]!.started
    const before = new Map(guards.map(({ id, counted }) => [id, BigInt(counted)]))
    const moved = rows.filter(({ id, counted }) => BigInt(counted) !== before.get(id))
    if (moved.length === 0 && certain && state.guards_since !== null) return
    await this.#db.transaction(async (trx) => {
      for (const { id, counted } of moved) {
        // A guard that was taken away and put in force again counts from the beginning.
        const last = before.get(id)!
        const refused = BigInt(counted) > last ? BigInt(counted) - last : BigInt(counted)
        if (refused > 0n)
          await trx('spoor.guard_count').insert({
            guard_id: id,
            at: trx.raw('clock_timestamp()'),
            refused: refused.toString(),
            certain,
          })
        await trx('spoor.guard').where({ id }).update({ counted })
      }
      await trx('spoor.source').where({ id: this.#sourceId }).update({ guards_since: rows[0]!.started })
    })
  }

  /** What stands open in the source is what was opened in Spoor; anything else somebody put there. */
  async #openings(source: Database): Promise<void> {
    const { rows } = await source.raw<{ rows: Opening[] }>(
      'select opening as id, guard as guard_id, said, logins, until as until_at from spoor_capture.guard_open',
    )
    if (rows.length === 0) return
    const known = await this.#db('spoor.guard_opening')
      .whereIn(
        'id',
        rows.map(({ id }) => id),
      )
      .select<Opening[]>('id', 'guard_id', 'said', 'logins', 'until_at')
    const asText = ({ id, guard_id, said, logins, until_at }: Opening) =>
      JSON.stringify([id, guard_id, said, logins, until_at])
    const own = new Set(known.map(asText))
    for (const one of rows) {
      if (own.has(asText(one))) continue
      const { id: opening, guard_id: guard, said, until_at: until } = one
      await raiseAlarm(this.#db, {
        code: 'outbox-altered',
        sourceId: this.#sourceId,
        words: `Guard ${guard} stood open in the source for ${listed([...said, ...one.logins])} until ${until}, which nobody opened in Spoor. It was closed.`,
      })
      await source.raw('delete from spoor_capture.guard_open where opening = ?', [opening])
    }
    await source.raw(`delete from spoor_capture.guard_open where until < clock_timestamp() - interval '1 day'`)
  }

  async #letBy(source: Database): Promise<number> {
    const { rows } = await source.raw<{ rows: Noted[] }>(
      `select id, at, guard, opening, type_id, action, key, label, transaction_id::text as transaction_id, login,
              spoor_capture.said(context, 'actor') as actor, spoor_capture.reason_of(context) as reason
         from spoor_capture.guarded order by id limit ?`,
      [atOnce],
    )
    await this.#keep(rows.map((row) => ({ ...row, how: row.opening === null ? 'warned' : 'passed' })))
    await forget(source, 'guarded', rows)
    return rows.length
  }

  async #told(source: Database): Promise<number> {
    const { rows } = await source.raw<{ rows: (Noted & { detail: string })[] }>(
      `select id, at, detail, login, spoor_capture.said(context, 'actor') as actor, spoor_capture.reason_of(context) as reason
         from spoor_capture.refused order by id limit ?`,
      [atOnce],
    )
    await this.#keep(
      rows.flatMap((row) => {
        const told = readDetail(row.detail)
        return told ? [{ ...row, ...told, how: 'refused' as const, opening: null, transaction_id: null }] : []
      }),
    )
    await forget(source, 'refused', rows)
    return rows.length
  }

  async #keep(rows: readonly (Noted & { how: 'refused' | 'warned' | 'passed' })[]): Promise<void> {
    if (rows.length === 0) return
    const types = await guardTypes(this.#db, this.#sourceId)
    const openings = new Set(
      await this.#db('spoor.guard_opening')
        .whereIn('id', [...new Set(rows.flatMap(({ opening }) => opening ?? []))])
        .pluck<number[]>('id'),
    )
    // Whoever may write may tell of refusals; of what no guard can have met nothing is kept.
    const kept = rows.filter((row) => types.get(row.guard) === row.type_id)
    if (kept.length === 0) return
    await this.#db('spoor.guard_met')
      .insert(
        kept.map((row) => ({
          guard_id: row.guard,
          how: row.how,
          note_id: row.id,
          at: row.at,
          type_id: row.type_id,
          action: row.action,
          record_key: row.key,
          label: row.label,
          actor: row.actor ?? unknownName(row.login),
          login: row.login,
          reason: row.reason,
          opening_id: row.opening !== null && openings.has(row.opening) ? row.opening : null,
          transaction_id: row.transaction_id,
        })),
      )
      // What was kept before a stop and not taken from the source yet is there already.
      .onConflict(['guard_id', 'how', 'note_id', 'at'])
      .ignore()
  }
}

interface Opening {
  id: number
  guard_id: number
  said: string[]
  logins: string[]
  until_at: string
}

interface Noted {
  id: string
  at: string
  guard: number
  opening: number | null
  type_id: number
  action: string
  key: string
  label: string
  transaction_id: string | null
  login: string
  actor: string | null
  reason: string | null
}

async function forget(source: Database, table: 'guarded' | 'refused', rows: readonly { id: string }[]): Promise<void> {
  if (rows.length === 0) return
  await source.raw(`delete from spoor_capture.${table} where id = any(?::bigint[])`, [
    boundArray(rows.map(({ id }) => id)),
  ])
}

/** What an application told of a refusal; whoever may write may have written it. */
function readDetail(json: string): Pick<Noted, 'guard' | 'type_id' | 'action' | 'key' | 'label'> | null {
  let told: unknown
  try {
    told = JSON.parse(json)
  } catch {
    return null
  }
  if (typeof told !== 'object' || told === null) return null
  const { guard, type, action, key, label } = told as Record<string, unknown>
  if (typeof guard !== 'number' || typeof type !== 'number' || !guardActs.some((act) => act === action)) return null
  if (typeof action !== 'string' || typeof key !== 'string' || typeof label !== 'string') return null
  const plain = (text: string) => text.replaceAll('\0', '�').slice(0, 1000)
  return {
    guard,
    type_id: type,
    action,
    key: plain(key),
    label: plain(label),
  }
}
