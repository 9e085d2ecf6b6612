import {
  compareInstants,
  addDecimals,
  matches,
  moveOf,
  pairBucket,
  valueKind,
  wallClock,
  watchBucket,
  type ActorKind,
  type CapturedValue,
  type Scope,
  type ScopedChange,
} from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { parentOf } from '../ledger/saves.ts'
import { asksChanges, historyOf } from '../ledger/scope-sql.ts'
import { knownSql, savesNamed, type BucketRow, type Counting } from './in-watch.ts'

/** A save that came, as scopes look at it. */
export interface Arrived {
  id: string
  at: string
  runId: string | null
  /** Who made it, by the one name they are known under. */
  knownId: number
  /** What scopes that ask nothing of single changes look at. */
  whole: ScopedChange
  changes: readonly ArrivedChange[]
}

/** What a number moved by beside what scopes look at, as exact decimal text; null where that was not asked for. */
export type ArrivedChange = ScopedChange & { rise: string | null }

interface Row {
  id: string
  captured_at: string
  type_id: number
  record_key: string
  parent_type_id: number | null
  parent_key: string | null
  action: ScopedChange['action']
  actor_id: number
  known_id: number
  actor_kind: ActorKind
  channel: string
  run_id: string | null
  reason: string | null
  /** Each `[field, type, erased, before, after, what it moved by]`. */
  changes: [number, string, boolean, CapturedValue, CapturedValue, string | null][]
}

const savesAtOnce = 500
/** No value that a scope names is longer, nor a number whose difference it asks for. */
const longest = 2000

/** Whether scopes can be held against saves as they come: what was said of them, and texts of any length, the database knows. */
export const canMatch = (scopes: readonly Scope[]): boolean =>
  scopes.every(({ state, value }) => !state && !value?.tests.some(({ test }) => test === 'contains'))

/**
 * Saves between two numbers, the first not included, a few hundred at a time in their order.
 * @param times between which they were captured
 * @param scopes what will be asked of them
 * @param moves whether it will be asked what numbers moved by
 */
export async function* arrived(
  db: Database,
  { after, upTo }: { after: string; upTo: string },
  times: { from: string; to: string },
  { scopes, moves }: { scopes: readonly Scope[]; moves: boolean },
): AsyncGenerator<Arrived[]> {
  const values = scopes.some(({ value }) => value !== undefined)
  const value = (side: 'before' | 'after') =>
    `case when not ? then null when c.rise is null then left(c.${side}, ${longest}) else c.${side} end`
  for (let last = after; ;) {
    const { rows } = await db.raw<{ rows: Row[] }>(
      `select s.id, s.captured_at, s.type_id, s.record_key, s.parent_type_id, s.parent_key, s.action, s.actor_id, s.actor_kind,
              ${knownSql} as known_id,
              s.channel, s.run_id, s.reason,
              (select coalesce(json_agg(json_build_array(c.field_id, f.base_type, c.erased, ${value('before')}, ${value('after')},
                        case when ? then c.rise::text end)), '[]')
                 from ledger.change c join spoor.field f on f.id = c.field_id
                where c.captured_at = s.captured_at and c.save_id = s.id) as changes
         from ledger.save s
        where s.captured_at between ?::timestamptz and ?::timestamptz and s.id > ?::bigint and s.id <= ?::bigint
        order by s.id limit ?`,
      [values, values, moves, times.from, times.to, last, upTo, savesAtOnce],
    )
    if (rows.length === 0) return
    const history = await historyOf(db, rows, scopes)
    yield rows.map((row) => arrivedOf(row, history.get(row.id)))
    last = rows.at(-1)!.id
  }
}

function arrivedOf(row: Row, history: Partial<ScopedChange> | undefined): Arrived {
  const of = {
    actorId: row.actor_id,
    actorKind: row.actor_kind,
    typeId: row.type_id,
    key: row.record_key,
    parent: parentOf(row),
    atMs: Date.parse(row.captured_at),
    action: row.action,
    channel: row.channel,
    runId: Number(row.run_id),
    reason: row.reason,
    states: [],
    stories: [],
    restored: false,
    effectiveOn: null,
    transactionOf: [],
    cases: [],
    ...history,
  }
  return {
    id: row.id,
    at: row.captured_at,
    runId: row.run_id,
    knownId: row.known_id,
    whole: { ...of, fieldId: 0, before: null, after: null, isNumber: false },
    changes: row.changes.map(([fieldId, baseType, erased, before, after, rise]) => ({
      ...of,
      fieldId,
      before,
      after,
      erased,
      rise,
      isNumber: valueKind(baseType) === 'number',
    })),
  }
}

/** Saves in scope as they are counted together by a watch. */
export class Buckets {
  readonly #rows = new Map<string, BucketRow>()
  readonly #scopes: readonly Scope[]
  readonly #byChange: boolean
  readonly #fires: Counting
  readonly #zone: string

  constructor(scopes: readonly Scope[], fires: Counting, zone: string) {
    this.#scopes = scopes
    this.#byChange = scopes.some(asksChanges)
    this.#fires = fires
    this.#zone = zone
  }

  /** What a save adds to its bucket; null where it does not belong there. */
  #part(save: Arrived, nowMs: number): { move: string | null } | null {
    const meant = (change: ScopedChange) => this.#scopes.every((scope) => matches(scope, change, nowMs))
    if (this.#fires.fires !== 'sum')
      return (this.#byChange ? save.changes.some(meant) : meant(save.whole)) ? { move: null } : null
    const { fieldId, way } = this.#fires
    const change = save.changes.find((one) => one.fieldId === fieldId)
    if (!change || change.rise === null) return null
    const move = moveOf(way, change.rise)
    return move !== null && meant(change) ? { move } : null
  }

  #bucketOf({ id, runId, knownId, whole: { atMs, typeId } }: Arrived): string {
    return this.#fires.fires === 'unusual'
      ? pairBucket(knownId, typeId, wallClock(atMs, this.#zone).date)
      : watchBucket(this.#fires.within, { id, runId: runId === null ? null : Number(runId), atMs }, this.#zone)
  }

  add(saves: readonly Arrived[], nowMs: number): void {
    for (const save of saves) {
      const part = this.#part(save, nowMs)
      if (!part) continue
      const { id, at, whole } = save
      const bucket = this.#bucketOf(save)
      const row = this.#rows.get(bucket)
      if (!row) {
        this.#rows.set(bucket, {
          bucket,
          saves: 1,
          from_at: at,
          to_at: at,
          save_ids: [id],
          actor_ids: [whole.actorId],
          total: part.move,
        })
        continue
      }
      row.saves++
      if (part.move !== null) row.total = addDecimals(row.total ?? '0', part.move)
      if (compareInstants(at, row.from_at) < 0) row.from_at = at
      if (compareInstants(at, row.to_at) > 0) row.to_at = at
      if (row.save_ids.length < savesNamed) row.save_ids.push(id)
      if (!row.actor_ids.includes(whole.actorId)) row.actor_ids.push(whole.actorId)
    }
  }

  /** In the order of their first save. */
  rows(most: number): BucketRow[] {
    return [...this.#rows.values()].sort((a, b) => compareInstants(a.from_at, b.from_at)).slice(0, most)
  }
}
