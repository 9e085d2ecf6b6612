import type { ActorKind } from '@spoor/core'
import type { Knex } from 'knex'
import type { Identity, Unmapped } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'

/** Somebody whom saves are known to be by, from the login or from a name that an application says. */
export interface KnownIdentity {
  by: 'login' | 'name'
  said: string
  kind: ActorKind
  name: string
  /** The person a delegate acts for. */
  forName: string | null
  /** First and last day, `YYYY-MM-DD` in UTC; null is open. */
  fromOn: string | null
  untilOn: string | null
}

/** Who a source's logins and said names are known to be. The narrowest spell goes first. */
export async function knownIdentities(db: Database, sourceId: number): Promise<KnownIdentity[]> {
  const { rows } = await db.raw<{
    rows: {
      by: 'login' | 'name'
      said: string
      kind: ActorKind
      name: string
      for_name: string | null
      from_on: string | null
      until_on: string | null
    }[]
  }>(
    `select i.by, i.said, a.kind, a.name, f.name as for_name, i.from_on::text, i.until_on::text
       from spoor.identity i join spoor.actor a on a.id = i.actor_id left join spoor.actor f on f.id = i.for_actor_id
      where i.source_id = ? order by i.until_on - i.from_on nulls last, i.id desc`,
    [sourceId],
  )
  return rows.map((row) => ({
    by: row.by,
    said: row.said,
    kind: row.kind,
    name: row.name,
    forName: row.for_name,
    fromOn: row.from_on,
    untilOn: row.until_on,
  }))
}

/** How people are known in a source: by what is said of them, or by logins where nothing is said. */
export function knownAs(
  names: readonly string[],
  identities: readonly KnownIdentity[],
): { said: string[]; logins: string[] } {
  const of = (by: KnownIdentity['by']) =>
    identities.filter((one) => one.by === by && names.includes(one.name)).map((one) => one.said)
  return { said: [...new Set([...names, ...of('name')])].sort(), logins: [...new Set(of('login'))].sort() }
}

export async function listIdentities(db: Knex): Promise<Identity[]> {
  const { rows } = await db.raw<{ rows: Identity[] }>(
    `select id, source_id as "sourceId", by, said as text, actor_id as "actorId", for_actor_id as "forActorId",
            from_on::text as "fromOn", until_on::text as "untilOn" from spoor.identity order by said, from_on nulls first`,
  )
  return rows
}

/**
 * Actors that nobody knows: logins without a name, and people whom an application named and the directory does not
 * know. Most active first.
 */
export async function listUnmapped(db: Database): Promise<Unmapped[]> {
  const { rows } = await db.raw<{
    rows: {
      actor_id: number
      kind: ActorKind
      name: string
      source_id: number
      saves: string
      first_at: string
      last_at: string
    }[]
  }>(
    `select a.id as actor_id, a.kind, a.name, t.source_id, sum(h.saves) as saves, min(h.hour) as first_at, max(h.hour) as last_at
       from spoor.actor a join ledger.hour_actor h on h.actor_id = a.id join spoor.record_type t on t.id = h.type_id
      where a.same_as is null and not a.in_directory
        and not exists (select from spoor.identity i where i.actor_id = a.id)
        and not exists (select from spoor.person p where p.name = a.name)
      group by a.id, t.source_id order by saves desc limit 200`,
  )
  return rows.map((row) => {
    const login = row.kind === 'unknown' && row.name.startsWith('login ') ? row.name.slice('login '.length) : null
    return {
      actorId: row.actor_id,
      sourceId: row.source_id,
      by: login === null ? 'name' : 'login',
      text: login ?? row.name,
      kind: row.kind,
      saves: Number(row.saves),
      firstAt: row.first_at,
      lastAt: row.last_at,
    }
  })
}

export interface NewIdentity {
  sourceId: number
  by: 'login' | 'name'
  text: string
  who: { actorId: number } | { kind: ActorKind; name: string }
  forActorId: number | null
  fromOn: string | null
  untilOn: string | null
}

/**
 * Says who a login or a said name is. From now on its saves are theirs; those made before keep the actor they were
 * made by, which is shown as the same one. Done again for the same spell, it is said anew.
 */
export async function setIdentity(db: Database, identity: NewIdentity): Promise<Identity> {
  const { sourceId, by, text, fromOn, untilOn, forActorId } = identity
  if (fromOn !== null && untilOn !== null && fromOn > untilOn)
    throw new Problem('bad-request', `The spell ends (${untilOn}) before it begins (${fromOn}). Nothing was changed.`)
  return await db.transaction(async (trx) => {
    const actor = await actorFor(trx, identity.who)
    if (forActorId !== null && actor.kind !== 'delegate')
      throw new Problem('rule-broken', 'Only a support delegate acts for somebody else. Nothing was changed.')
    if (forActorId !== null && !(await trx('spoor.actor').where({ id: forActorId }).first()))
      throw new Problem('not-found', 'The person acted for is not known. Nothing was changed.')
    if (!(await trx('spoor.source').where({ id: sourceId }).first('id')))
      throw new Problem('not-found', 'There is no such source. Nothing was changed.')
    await trx('spoor.identity')
      .where({ source_id: sourceId, by, said: text, from_on: fromOn, until_on: untilOn })
      .delete()
    const [row] = await trx('spoor.identity')
      .insert({
        source_id: sourceId,
        by,
        said: text,
        actor_id: actor.id,
        for_actor_id: forActorId,
        from_on: fromOn,
        until_on: untilOn,
      })
      .returning<{ id: number }[]>('id')
    if (fromOn === null && untilOn === null) {
      const kind = by === 'login' ? ['unknown'] : ['unknown', 'person']
      await trx('spoor.actor')
        .where({ name: by === 'login' ? `login ${text}` : text })
        .whereIn('kind', kind)
        .whereNot({ id: actor.id })
        .where({ in_directory: false })
        .update({ same_as: actor.id })
    }
    return { id: row!.id, sourceId, by, text, actorId: actor.id, forActorId, fromOn, untilOn }
  })
}

async function actorFor(trx: Knex.Transaction, who: NewIdentity['who']): Promise<{ id: number; kind: ActorKind }> {
  if ('actorId' in who) {
    const known = await trx('spoor.actor')
      .where({ id: who.actorId })
      .first<{ id: number; kind: ActorKind; same_as: number | null } | undefined>('id', 'kind', 'same_as')
    if (!known) throw new Problem('not-found', 'Whom it is to be mapped to is not known. Nothing was changed.')
    if (known.same_as !== null)
      throw new Problem('rule-broken', 'That one is mapped to somebody else already; map to them. Nothing was changed.')
    return known
  }
  const [row] = await trx('spoor.actor')
    .insert({ kind: who.kind, name: who.name })
    .onConflict(['kind', 'name'])
    .merge(['name'])
    .returning<{ id: number }[]>('id')
  return { id: row!.id, kind: who.kind }
}

/** @returns the words of what was taken away. */
export async function removeIdentity(db: Database, id: number): Promise<string> {
  return await db.transaction(async (trx) => {
    const [gone] = await trx('spoor.identity')
      .where({ id })
      .delete()
      .returning<{ by: string; said: string; actor_id: number }[]>('*')
    if (!gone) throw new Problem('not-found', 'There is no such mapping. Nothing was changed.')
    await trx('spoor.actor')
      .where({ same_as: gone.actor_id, name: gone.by === 'login' ? `login ${gone.said}` : gone.said })
      .update({ same_as: null })
    return `${gone.by} ${gone.said} is mapped to nobody`
  })
}
