import { randomBytes } from 'node:crypto'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { sha256Hex } from '../ledger/sha256.ts'
import { loginName } from '../people/people.ts'

const lastsMinutes = 10

/** What a ticket is for. */
export interface Ticket {
  personId: number
  typeId: number
  key: string
  /** Where the browser that holds it may be. */
  origin: string
}

const refused = () =>
  new Problem('not-signed-in', 'The application’s key is not one that Spoor knows. Nothing was told.')

/** @throws Problem where the key is no application's, nobody is meant who may see anything, or there is no such record type */
export async function makeTicket(
  db: Database,
  applicationKey: string,
  { user, table, key }: { user: string; table: string; key: readonly string[] },
): Promise<{ ticket: string; endsAt: string }> {
  const application = await db('spoor.application')
    .where({ key_hash: sha256Hex(applicationKey), ended_at: null })
    .first<{ id: number } | undefined>('id')
  if (!application) throw refused()
  const people = await db('spoor.person as p')
    .leftJoin('spoor.actor as a', 'a.id', 'p.actor_id')
    .whereNull('p.disabled_at')
    .where((any) => any.where('p.login', loginName(user)).orWhere('a.name', user))
    .select<{ id: number; login: string }[]>('p.id', 'p.login')
  // A login is one person's; two people of one name are nobody.
  const person = people.find(({ login }) => login === loginName(user)) ?? (people.length === 1 ? people[0] : undefined)
  if (!person)
    throw new Problem(
      'not-allowed',
      'Whoever is signed in there has no access to Spoor. An administrator can give it under Tracking, Access.',
    )
  const dot = table.indexOf('.')
  const types = await db('spoor.record_type')
    .where({ table_name: table.slice(dot + 1), present: true })
    .modify((query) => dot > 0 && void query.where({ schema_name: table.slice(0, dot) }))
    .select<{ id: number; key_columns: string[] }[]>('id', 'key_columns')
  const [type] = types
  if (!type || types.length > 1 || type.key_columns.length !== key.length)
    throw new Problem('not-found', 'Spoor knows no one record type of that table with such a key.')
  const ticket = randomBytes(32).toString('base64url')
  const [row] = await db('spoor.panel_ticket')
    .insert({
      ticket_hash: sha256Hex(ticket),
      application_id: application.id,
      person_id: person.id,
      type_id: type.id,
      record_key: JSON.stringify(key),
      ends_at: db.raw('now() + make_interval(mins => ?)', [lastsMinutes]),
    })
    .returning<{ ends_at: string }[]>('ends_at')
  await db('spoor.panel_ticket').where('ends_at', '<', db.fn.now()).delete()
  return { ticket, endsAt: row!.ends_at }
}

/** @throws Problem where it is old, made up, or its application was ended */
export async function ticketOf(db: Database, ticket: string): Promise<Ticket> {
  const row = await db('spoor.panel_ticket as t')
    .join('spoor.application as a', 'a.id', 't.application_id')
    .where({ 't.ticket_hash': sha256Hex(ticket), 'a.ended_at': null })
    .where('t.ends_at', '>', db.fn.now())
    .first<{ person_id: number; type_id: number; record_key: string; origin: string } | undefined>(
      't.person_id',
      't.type_id',
      't.record_key',
      'a.origin',
    )
  if (!row)
    throw new Problem('not-signed-in', 'The ticket for this trail has ended. Load the page again to get another.')
  return { personId: row.person_id, typeId: row.type_id, key: row.record_key, origin: row.origin }
}
