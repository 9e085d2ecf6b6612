import type { EventCount, EventKind, SpoorEvent } from '@spoor/contract'
import { instantsOf, type Scope } from '@spoor/core'
import type { Knex } from 'knex'
import { anywhere } from './scope-sql.ts'
import type { Database } from '../database/knex.ts'

export interface NewEvent {
  kind: EventKind
  outcome?: 'done' | 'refused'
  personId: number | null
  sourceId?: number | null
  /** What was done, to be read after the person's name: "put plan 3 in force". No values of the business. */
  words: string
  address?: string | undefined
}

/** Writes down what somebody did in Spoor, beside the trail of the records. */
export async function recordEvent(db: Knex, event: NewEvent): Promise<void> {
  await db('ledger.event').insert(eventRow(event))
}

/** Several at once, in their order. */
export async function recordEvents(trx: Knex.Transaction, events: readonly NewEvent[]): Promise<void> {
  await trx.batchInsert('ledger.event', events.map(eventRow))
}

function eventRow(event: NewEvent) {
  return {
    kind: event.kind,
    outcome: event.outcome ?? 'done',
    person_id: event.personId,
    source_id: event.sourceId ?? null,
    words: event.words,
    address: event.address ?? null,
  }
}

/** Does something and writes it down either way; a refusal is recorded and passed on. */
export async function recorded<T>(db: Database, event: NewEvent, work: () => Promise<T>): Promise<T> {
  const result = await work().catch(async (error: unknown) => {
    // Whoever asked is told why it was refused, also when that cannot be written down.
    await recordEvent(db, { ...event, outcome: 'refused' }).catch(() => undefined)
    throw error
  })
  await recordEvent(db, event)
  return result
}

const pageSize = 100

export interface EventFilter {
  /** Of these only the time and the people count. */
  scopes?: readonly Scope[]
  /** Kinds, separated by commas; every kind when absent. */
  kind?: string | undefined
  /** A person's number; 0 for nobody's. */
  by?: number | undefined
  outcome?: 'done' | 'refused' | undefined
  words?: string | undefined
}

function eventsIn(db: Database, { scopes = [], kind, by, outcome, words }: EventFilter): Knex.QueryBuilder {
  const query = db('ledger.event as e').leftJoin('spoor.person as p', 'p.id', 'e.person_id')
  // Facts about rows are there to be checked, not to be read: their kind is a table's name.
  void query.whereRaw(`position('.' in e.kind) = 0`)
  if (kind) void query.whereIn('e.kind', kind.split(','))
  if (by !== undefined) void (by === 0 ? query.whereNull('e.person_id') : query.where('e.person_id', by))
  if (outcome) void query.where('e.outcome', outcome)
  if (words) void query.whereRaw(`e.words ilike ? escape '\\'`, [anywhere(words)])
  for (const { when, who } of scopes) {
    if (when && !when.effective) {
      const { fromMs, toMs } = instantsOf(when.span, Date.now())
      const within = (q: Knex.QueryBuilder) => {
        if (fromMs !== null) void q.where('e.at', '>=', new Date(fromMs).toISOString())
        if (toMs !== null) void q.where('e.at', '<', new Date(toMs).toISOString())
      }
      void (when.exclude ? query.whereNot(within) : query.where(within))
    }
    if (who) {
      // Whoever uses Spoor is a person; that they are among the actors is known of some.
      const among = (q: Knex.QueryBuilder) => {
        void q.whereIn(
          'e.person_id',
          db('spoor.person as x')
            .leftJoin('spoor.actor as a', 'a.id', 'x.actor_id')
            .whereIn('a.id', [...who.actors])
            .orWhereIn('a.same_as', [...who.actors])
            .select('x.id'),
        )
        if (who.kinds.includes('person')) void q.orWhereNotNull('e.person_id')
      }
      void (who.exclude ? query.whereNot((q) => void q.whereNotNull('e.person_id').where(among)) : query.where(among))
    }
  }
  return query
}

/** What was done in Spoor itself, newest first. @param before the number of the last one already shown */
export async function listEvents(
  db: Database,
  filter: EventFilter,
  before?: string,
): Promise<{ events: SpoorEvent[]; next: string | null }> {
  const query = eventsIn(db, filter)
    .orderBy('e.id', 'desc')
    .limit(pageSize + 1)
    .select('e.id', 'e.at', 'e.kind', 'e.outcome', 'p.name as by', 'e.words', 'e.address')
  if (before) void query.where('e.id', '<', before)
  const rows = (await query) as SpoorEvent[]
  const events = rows.slice(0, pageSize).map((row) => ({ ...row, id: Number(row.id) }))
  return { events, next: rows.length > pageSize ? String(events.at(-1)!.id) : null }
}

/** How often each person did each kind of thing. */
export async function countEvents(db: Database, filter: EventFilter): Promise<EventCount[]> {
  const rows = (await eventsIn(db, filter)
    .groupBy('e.person_id', 'p.name', 'e.kind')
    .select('e.person_id as personId', 'p.name as by', 'e.kind', db.raw('count(*)::int as events'))
    .select(db.raw(`(count(*) filter (where e.outcome = 'refused'))::int as refused`))) as EventCount[]
  return rows
}
