import { randomBytes } from 'node:crypto'
import type { Application } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { recordEvent } from '../ledger/events.ts'
import { sha256Hex } from '../ledger/sha256.ts'

interface Row {
  id: number
  name: string
  origin: string
  made_by_name: string
  made_at: string
  ended_at: string | null
}

const applications = (db: Knex) =>
  db('spoor.application as a')
    .join('spoor.person as p', 'p.id', 'a.made_by')
    .orderBy('a.id')
    .select<Row[]>('a.*', 'p.name as made_by_name')

const shown = ({ id, name, origin, made_by_name: madeBy, made_at: madeAt, ended_at: endedAt }: Row): Application => ({
  id,
  name,
  origin,
  madeBy,
  madeAt,
  endedAt,
})

export async function listApplications(db: Database): Promise<Application[]> {
  return (await applications(db)).map(shown)
}

/** @returns the application with its key, which is kept nowhere. @throws Problem when the name is taken */
export async function addApplication(
  db: Database,
  { name, origin }: { name: string; origin: string },
  personId: number,
): Promise<{ application: Application; key: string }> {
  const key = randomBytes(32).toString('base64url')
  return await db.transaction(async (trx) => {
    const [added] = await trx('spoor.application')
      .insert({ name, origin: new URL(origin).origin, key_hash: sha256Hex(key), made_by: personId })
      .onConflict(trx.raw('(lower(name)) where ended_at is null'))
      .ignore()
      .returning<{ id: number }[]>('id')
    if (!added)
      throw new Problem('name-taken', `There is an application “${name}” already. End it first, or give another name.`)
    await recordEvent(trx, { kind: 'person', personId, words: `let the application ${name} show trails at ${origin}` })
    const [row] = await applications(trx).where('a.id', added.id)
    return { application: shown(row!), key }
  })
}

/** Tickets that it was given end with it. */
export async function endApplication(db: Database, id: number, personId: number): Promise<Application> {
  return await db.transaction(async (trx) => {
    const [row] = await applications(trx).where('a.id', id)
    if (!row) throw new Problem('not-found', 'There is no such application. Nothing was changed.')
    if (row.ended_at === null) {
      await trx('spoor.application').where({ id }).update({ ended_at: trx.fn.now() })
      await trx('spoor.panel_ticket').where({ application_id: id }).delete()
      await recordEvent(trx, { kind: 'person', personId, words: `let the application ${row.name} show trails no more` })
    }
    const [now] = await applications(trx).where('a.id', id)
    return shown(now!)
  })
}
