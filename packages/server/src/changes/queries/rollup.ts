import { instantsOf, partsOf, transactionsOf, type Scope } from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../../database/knex.ts'
import { whereScope } from '../../ledger/scope-sql.ts'

const hourMs = 3_600_000

/**
 * Whether the hourly counts by type, actor and channel can answer for these scopes: they know nothing of fields,
 * records, values and reasons, and nothing of parts of an hour.
 */
export function countsAnswer(scopes: readonly Scope[], nowMs: number): boolean {
  return scopes.every((scope) =>
    partsOf(scope).every((part) => {
      switch (part.part) {
        case 'who':
          return true
        case 'what':
          return part.fields.length === 0
        case 'how':
          return part.actions.length === 0 && part.runs.length === 0 && transactionsOf(part).length === 0
        case 'when': {
          if (part.effective) return false
          const { fromMs, toMs } = instantsOf(part.span, nowMs)
          return [fromMs, toMs].every((ms) => ms === null || ms % hourMs === 0)
        }
        case 'clock':
          return wholeHours(part.zone, nowMs)
        default:
          return false
      }
    }),
  )
}

/** Whether scopes ask for nothing but kinds of actor and time. */
function kindsAnswer(scopes: readonly Scope[]): boolean {
  return scopes.every((scope) =>
    partsOf(scope).every(
      (part) => part.part === 'when' || part.part === 'clock' || (part.part === 'who' && part.actors.length === 0),
    ),
  )
}

const byActor =
  'select hour as captured_at, type_id, actor_id, actor_kind, channel, saves, changes from ledger.hour_actor'
const byKind = 'select hour as captured_at, null::int as actor_id, actor_kind, saves, changes from ledger.hour_kind'

/**
 * The hourly counts that scopes mean, under the alias `r`, with the columns that saves have. Where only kinds and time
 * are asked for (`needs` nothing more), the much smaller counts by kind answer.
 */
export function fromCounts(
  db: Database,
  scopes: readonly Scope[],
  nowMs: number,
  needs: 'kinds' | 'actors and types',
): Knex.QueryBuilder {
  const table = needs === 'kinds' && kindsAnswer(scopes) ? byKind : byActor
  const query = db.from(db.raw(`(${table}) as r`))
  for (const scope of scopes) whereScope(query, scope, 'save', 'r', nowMs)
  return query
}

/** Whether the days of a zone begin on whole hours of UTC, as the hourly counts need it. */
export function wholeHours(zone: string, nowMs: number): boolean {
  const minute = new Intl.DateTimeFormat('en-GB', { timeZone: zone, minute: '2-digit' }).format(nowMs)
  return Number(minute) === new Date(nowMs).getUTCMinutes()
}
