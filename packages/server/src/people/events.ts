import type { EventKind, SpoorEvent } from '@spoor/contract'
import type { Knex } from 'knex'
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
  await db('ledger.event').insert({
    kind: event.kind,
    outcome: event.outcome ?? 'done',
    person_id: event.personId,
    source_id: event.sourceId ?? null,
    words: event.words,
    address: event.address ?? null,
  })
}

/** Does something and writes it down either way; a refusal is recorded and passed on. */
export async function recorded<T>(db: Database, event: NewEvent, work: () => Promise<T>): Promise<T> {
  try {
    const result = await work()
    await recordEvent(db, event)
    return result
  } catch (error) {
    await recordEvent(db, { ...event, outcome: 'refused' })
    throw error
  }
}

const pageSize = 100

export interface EventRequest {
  /** Kinds, separated by commas; every kind when absent. */
  kind?: string | undefined
  before?: string | undefined
  from?: string | undefined
  to?: string | undefined
}

export async function listEvents(
  db: Database,
  { kind, before, from, to }: EventRequest,
): Promise<{ events: SpoorEvent[]; next: string | null }> {
  const query = db('ledger.event as e')
    .leftJoin('spoor.person as p', 'p.id', 'e.person_id')
    .orderBy('e.id', 'desc')
    .limit(pageSize + 1)
    .select('e.id', 'e.at', 'e.kind', 'e.outcome', 'p.name as by', 'e.words', 'e.address')
  if (kind) void query.whereIn('e.kind', kind.split(','))
  if (before) void query.where('e.id', '<', before)
  if (from) void query.where('e.at', '>=', from)
  if (to) void query.where('e.at', '<', to)
  const rows = (await query) as SpoorEvent[]
  const events = rows.slice(0, pageSize).map((row) => ({ ...row, id: Number(row.id) }))
  return { events, next: rows.length > pageSize ? String(events.at(-1)!.id) : null }
}
