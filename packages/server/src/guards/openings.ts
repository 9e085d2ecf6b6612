import type { GuardOpening } from '@spoor/contract'
import { guardsOf } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recorded } from '../ledger/events.ts'
import { knownAs, knownIdentities } from '../people/identities.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { planInForce } from '../tracking/plan-store.ts'
import { guardRow } from './store.ts'

interface OpeningRow {
  id: number
  guard_id: number
  actor: string
  by: string
  reason: string
  from_at: string
  until_at: string
  closed_at: string | null
  closed_by: string | null
}

const shown = (row: OpeningRow): GuardOpening => ({
  id: row.id,
  actor: row.actor,
  by: row.by,
  reason: row.reason,
  from: row.from_at,
  until: row.until_at,
  closedAt: row.closed_at,
  closedBy: row.closed_by,
})

const mostShown = 20

/** The latest openings of some guards. */
export async function openingsOf(db: Database, guardIds: readonly number[]): Promise<Map<number, GuardOpening[]>> {
  const rows = await db('spoor.guard_opening as o')
    .join('spoor.person as p', 'p.id', 'o.by')
    .leftJoin('spoor.person as c', 'c.id', 'o.closed_by')
    .whereIn('o.guard_id', guardIds)
    .orderBy('o.id', 'desc')
    .select<OpeningRow[]>('o.*', 'p.name as by', 'c.name as closed_by')
  const byGuard = new Map<number, GuardOpening[]>()
  for (const row of rows) {
    const list = byGuard.get(row.guard_id) ?? []
    if (list.length < mostShown) byGuard.set(row.guard_id, [...list, shown(row)])
  }
  return byGuard
}

export interface OpeningWish {
  guardId: number
  actor: string
  minutes: number
  reason: string
}

/**
 * Opens a guard for somebody for a while: it stands in Spoor first and then in the source, which ends it by its own clock.
 * @throws Problem when it would be for whoever asks, when the guard refuses nothing, or when the source cannot be reached
 */
export async function openGuard(
  { db, sources }: { db: Database; sources: Sources },
  person: SignedIn,
  { guardId, actor, minutes, reason }: OpeningWish,
): Promise<GuardOpening> {
  const { source_id: sourceId, type_id: typeId } = await guardRow(db, guardId)
  const guard = guardsOf((await planInForce(db, sourceId)).plan, typeId).get(guardId)
  const event = {
    kind: 'tracking',
    personId: person.id,
    sourceId,
    words: `opened guard ${guardId} for ${actor} for ${minutes} minutes: ${reason}`,
  } as const
  return await recorded(db, event, async () => {
    if (guard?.mode !== 'refuse')
      throw new Problem(
        'rule-broken',
        'This guard refuses nothing as the plan in force has it, so there is nothing to open.',
      )
    if (actor.toLowerCase() === person.name.toLowerCase())
      throw new Problem(
        'second-person',
        'A guard is opened by somebody else than whom it is opened for. Nothing was opened.',
      )
    const known = knownAs([actor], await knownIdentities(db, sourceId))
    let id: number | undefined
    try {
      const source = await sources.connection(sourceId)
      // It ends by the clock of the source. Spoor knows of it first: what stands open there and is not known is closed.
      const { rows } = await source.raw<{ rows: { until: string }[] }>(
        'select clock_timestamp() + make_interval(mins => ?) as until',
        [minutes],
      )
      const { until } = rows[0]!
      const [row] = await db('spoor.guard_opening')
        .insert({ guard_id: guardId, actor, ...known, by: person.id, reason, until_at: until })
        .returning<{ id: number }[]>('id')
      id = row!.id
      await source.raw(
        'insert into spoor_capture.guard_open (opening, guard, said, logins, until) values (?, ?, ?::text[], ?::text[], ?)',
        [id, guardId, boundArray(known.said), boundArray(known.logins), until],
      )
    } catch (error) {
      if (id !== undefined) await db('spoor.guard_opening').where({ id }).delete()
      throw isUnreachable(error)
        ? new Problem('source-unreachable', `${unreachable(error).words} Nothing was opened.`)
        : error
    }
    return await openingNow(db, guardId, id)
  })
}

/** Closes a guard before its time. @throws Problem when it is not open, or the source cannot be reached; it is as it was then */
export async function closeGuard(
  { db, sources }: { db: Database; sources: Sources },
  person: SignedIn,
  { guardId, openingId }: { guardId: number; openingId: number },
): Promise<GuardOpening> {
  const { source_id: sourceId } = await guardRow(db, guardId)
  const opening = await openingNow(db, guardId, openingId)
  const event = {
    kind: 'tracking',
    personId: person.id,
    sourceId,
    words: `closed guard ${guardId} for ${opening.actor} before its time`,
  } as const
  return await recorded(db, event, async () => {
    if (opening.closedAt !== null || Date.parse(opening.until) < Date.now())
      throw new Problem('rule-broken', 'It is not open any more.')
    try {
      await (
        await sources.connection(sourceId)
      ).raw('delete from spoor_capture.guard_open where opening = ?', [openingId])
    } catch (error) {
      if (!isUnreachable(error)) throw error
      throw new Problem('source-unreachable', `${unreachable(error).words} It is open until its time as before.`)
    }
    await db('spoor.guard_opening')
      .where({ id: openingId })
      .update({ closed_at: db.raw('clock_timestamp()'), closed_by: person.id })
    return await openingNow(db, guardId, openingId)
  })
}

async function openingNow(db: Database, guardId: number, openingId: number): Promise<GuardOpening> {
  const opening = (await openingsOf(db, [guardId])).get(guardId)?.find((one) => one.id === openingId)
  if (!opening) throw new Problem('not-found', 'There is no such opening of this guard.')
  return opening
}
