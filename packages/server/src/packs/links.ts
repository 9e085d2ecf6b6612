import { randomBytes } from 'node:crypto'
import type { Pack } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { sha256Hex } from '../ledger/sha256.ts'

/** Addresses by which somebody without a sign-in takes a pack. Only their digests are kept. */

const tokenBytes = 32

export interface LinkWish {
  forWhom: string
  days: number
  most: number
}

/** @returns the link, and what is in its address, which is told this once */
export async function makeLink(
  db: Database,
  packId: number,
  { forWhom, days, most }: LinkWish,
  person: SignedIn,
  address?: string,
): Promise<{ token: string; linkId: number }> {
  const token = randomBytes(tokenBytes).toString('base64url')
  const linkId = await db.transaction(async (trx) => {
    const [link] = await trx('spoor.pack_link')
      .insert({
        pack_id: packId,
        token_hash: sha256Hex(token),
        for_whom: forWhom,
        made_by: person.id,
        ends_at: trx.raw('clock_timestamp() + make_interval(days => ?)', [days]),
        most,
      })
      .returning<{ id: number }[]>('id')
    await recordEvent(trx, {
      kind: 'export',
      personId: person.id,
      words: `handed pack ${packId} over by link ${link!.id}, for ${days} days and ${most} takings`,
      address,
    })
    return link!.id
  })
  return { token, linkId }
}

/** Lets a link lead nowhere from now on; one that has ended stays ended. */
export async function endLink(db: Database, packId: number, linkId: number, person: SignedIn): Promise<void> {
  await db.transaction(async (trx) => {
    const link = await trx('spoor.pack_link').where({ id: linkId, pack_id: packId }).first('id')
    if (!link) throw new Problem('not-found', `Pack ${packId} has no link ${linkId}.`)
    await trx('spoor.pack_link')
      .where({ id: linkId })
      .whereRaw('ends_at > clock_timestamp()')
      .update({ ends_at: trx.raw('clock_timestamp()') })
    await recordEvent(trx, { kind: 'export', personId: person.id, words: `ended link ${linkId} of pack ${packId}` })
  })
}

export async function linksOf(db: Knex, packId: number): Promise<Pack['links']> {
  const { rows } = await db.raw<{ rows: Pack['links'] }>(
    `select l.id, l.for_whom as "forWhom", p.name as by, l.made_at as "madeAt", l.ends_at as "endsAt", l.most, l.taken,
            l.ends_at > clock_timestamp() and l.taken < l.most and k.state = 'kept' as open
       from spoor.pack_link l join spoor.person p on p.id = l.made_by join spoor.pack k on k.id = l.pack_id
      where l.pack_id = ? order by l.id desc`,
    [packId],
  )
  return rows
}

export interface Handed {
  link_id: number
  pack_id: number
  title: string
  by: string
  size: string
  digest: string
  ends_at: string
  left: number
}

/**
 * What an address leads to.
 * @param held whether it stays as it is until the transaction ends
 * @throws Problem, the same whatever is wrong with it
 */
export async function handed(db: Knex, token: string, held = false): Promise<Handed> {
  const { rows } = await db.raw<{ rows: Handed[] }>(
    `select l.id as link_id, k.id as pack_id, k.title, p.name as by, k.size, k.digest, l.ends_at, l.most - l.taken as left
       from spoor.pack_link l join spoor.pack k on k.id = l.pack_id join spoor.person p on p.id = l.made_by
      where l.token_hash = ? and l.ends_at > clock_timestamp() and l.taken < l.most and k.state = 'kept' ${held ? 'for update of l' : ''}`,
    [sha256Hex(token)],
  )
  if (!rows[0])
    throw new Problem(
      'not-found',
      'This link leads to nothing, or does no longer. Ask whoever gave it to you for another.',
    )
  return rows[0]
}

/** Counts a taking and writes it down, before anything is sent. @throws Problem where there is none left */
export async function takeHanded(db: Database, token: string, address?: string): Promise<Handed> {
  return await db.transaction(async (trx) => {
    const one = await handed(trx, token, true)
    await trx('spoor.pack_link').where({ id: one.link_id }).increment('taken')
    await trx('spoor.pack_taking').insert({ pack_id: one.pack_id, link_id: one.link_id })
    const words = `pack ${one.pack_id} was taken by link ${one.link_id}`
    await recordEvent(trx, { kind: 'export', personId: null, words, address })
    return one
  })
}
