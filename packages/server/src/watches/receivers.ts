import { createHmac, randomBytes } from 'node:crypto'
import type { Receiver } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { recordEvent } from '../ledger/events.ts'
import type { Vault } from '../secret.ts'

interface ReceiverRow {
  id: number
  name: string
  place: string
  url_sealed: Buffer
  secret_sealed: Buffer
  older_sealed: Buffer | null
  older_until: string | null
  inside: boolean
  made_by_name: string
  made_at: string
  ended_at: string | null
}

const secretBytes = 32
const secretMark = 'whsec_'
/** So long what a new secret takes the place of signs beside it. */
const olderHours = 24

const receivers = (db: Knex) =>
  db('spoor.receiver as r')
    .join('spoor.person as p', 'p.id', 'r.made_by')
    .orderBy('r.id')
    .select<ReceiverRow[]>('r.*', 'p.name as made_by_name')

const shown = ({ id, name, place, inside, made_by_name, made_at, ended_at }: ReceiverRow): Receiver => ({
  id,
  name,
  place,
  inside,
  madeBy: made_by_name,
  madeAt: made_at,
  endedAt: ended_at,
})

export async function listReceivers(db: Database): Promise<Receiver[]> {
  return (await receivers(db).whereNull('r.ended_at')).map(shown)
}

async function receiverRow(db: Knex, id: number): Promise<ReceiverRow> {
  const row = (await receivers(db).where('r.id', id).whereNull('r.ended_at').first()) as ReceiverRow | undefined
  if (!row) throw new Problem('not-found', `There is no receiver ${id}. Nothing was changed.`)
  return row
}

const newSecret = () => `${secretMark}${randomBytes(secretBytes).toString('base64')}`

/** Where it is, without a login and a query, which are secrets. */
function placeOf(url: string): string {
  const { origin, pathname } = new URL(url)
  return `${origin}${pathname}`
}

/** @returns the receiver with its secret, which is kept sealed. @throws Problem when the name is taken */
export async function addReceiver(
  { db, vault }: { db: Database; vault: Vault },
  { name, url, inside }: { name: string; url: string; inside: boolean },
  personId: number,
): Promise<{ receiver: Receiver; secret: string }> {
  const secret = newSecret()
  return await db.transaction(async (trx) => {
    const [added] = await trx('spoor.receiver')
      .insert({
        name,
        place: placeOf(url),
        url_sealed: vault.seal(url),
        secret_sealed: vault.seal(secret),
        inside,
        made_by: personId,
      })
      .onConflict(trx.raw('(lower(name)) where ended_at is null'))
      .ignore()
      .returning<{ id: number }[]>('id')
    if (!added)
      throw new Problem('name-taken', `There is a receiver “${name}” already. End it first, or give another name.`)
    await recordEvent(trx, {
      kind: 'watch',
      personId,
      words: `let watches tell the receiver ${name} at ${placeOf(url)}${inside ? ', within the own network' : ''}`,
    })
    return { receiver: shown(await receiverRow(trx, added.id)), secret }
  })
}

export async function renewSecret(
  { db, vault }: { db: Database; vault: Vault },
  id: number,
  personId: number,
): Promise<{ receiver: Receiver; secret: string }> {
  const secret = newSecret()
  return await db.transaction(async (trx) => {
    const row = await receiverRow(trx, id)
    await trx('spoor.receiver')
      .where({ id })
      .update({
        secret_sealed: vault.seal(secret),
        older_sealed: row.secret_sealed,
        older_until: trx.raw('now() + make_interval(hours => ?)', [olderHours]),
      })
    await recordEvent(trx, { kind: 'watch', personId, words: `gave the receiver ${row.name} another secret` })
    return { receiver: shown(await receiverRow(trx, id)), secret }
  })
}

export async function endReceiver(db: Database, id: number, personId: number): Promise<Receiver> {
  return await db.transaction(async (trx) => {
    const row = await receiverRow(trx, id)
    await trx('spoor.receiver').where({ id }).update({ ended_at: trx.fn.now() })
    await trx('spoor.watch_message')
      .where({ receiver_id: id, state: 'waiting' })
      .update({ state: 'given up', trouble: 'The receiver was ended.' })
    await recordEvent(trx, { kind: 'watch', personId, words: `ended the receiver ${row.name}` })
    return { ...shown(row), endedAt: new Date().toISOString() }
  })
}

/** Where a receiver is and what signs for it; null where it was ended. */
export interface OpenedReceiver {
  url: string
  inside: boolean
  secrets: string[]
}

export async function openReceiver(
  { db, vault }: { db: Database; vault: Vault },
  id: number,
  nowMs: number,
): Promise<OpenedReceiver | null> {
  const row = (await receivers(db).where('r.id', id).whereNull('r.ended_at').first()) as ReceiverRow | undefined
  if (!row) return null
  const older = row.older_sealed && Date.parse(row.older_until!) > nowMs ? [vault.unseal(row.older_sealed)] : []
  return {
    url: vault.unseal(row.url_sealed),
    inside: row.inside,
    secrets: [vault.unseal(row.secret_sealed), ...older],
  }
}

/**
 * The signatures of a message by each secret, as Standard Webhooks has them: `v1,` and the HMAC-SHA-256 of identity, seconds and
 * body with points between, in base64, separated by spaces.
 */
export function signatures(secrets: readonly string[], id: string, seconds: number, body: string): string {
  return secrets
    .map((secret) => {
      const key = Buffer.from(secret.slice(secretMark.length), 'base64')
      return `v1,${createHmac('sha256', key).update(`${id}.${seconds}.${body}`).digest('base64')}`
    })
    .join(' ')
}
