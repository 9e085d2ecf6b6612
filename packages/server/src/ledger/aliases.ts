import { groupsOf, withMembers, type Scope, type WhoGroup } from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import type { SignedIn } from '../http/bind.ts'

/** Each of these actors and those that turned out to be them. */
export async function withAliases(db: Database, actors: readonly number[]): Promise<number[]> {
  if (actors.length === 0) return []
  const rows = await db('spoor.actor')
    .whereIn('same_as', [...actors])
    .select<{ id: number }[]>('id')
  return [...new Set([...actors, ...rows.map((row) => row.id)])]
}

/** A scope with groups of people put down as the actors that they mean at this moment for one reader. */
export async function withMembersOf(db: Database, scope: Scope, reader: SignedIn): Promise<Scope> {
  const groups = scope.who ? groupsOf(scope.who) : []
  if (groups.length === 0) return scope
  const rows = await db('spoor.actor as a')
    .leftJoin('spoor.actor as k', 'k.id', 'a.same_as')
    .where((any) => groups.forEach((group) => any.orWhere((one) => isOf(one, group, reader))))
    .pluck<number[]>('a.id')
  return withMembers(scope, rows)
}

/** What the staff list says of somebody who is known under several names stands with one of them. */
const listed = (column: string) => `coalesce(k.${column}, a.${column})`

function isOf(query: Knex.QueryBuilder, group: WhoGroup, reader: SignedIn): void {
  switch (group.group) {
    case 'unit':
      query.whereRaw(`${listed('unit')} = ?`, [group.unit])
      return
    case 'left':
      query.whereRaw(`${listed('left_on')} <= current_date`)
      return
    case 'joined':
      query.whereRaw(`${listed('joined_on')} > current_date - make_interval(months => ?)`, [group.months])
      return
    case 'me':
      // Corrections are declared under the name that somebody has in Spoor.
      query.where((one) => {
        one.where({ 'a.kind': 'person', 'a.name': reader.name })
        if (reader.actorId !== null) one.orWhere('a.id', reader.actorId).orWhere('a.same_as', reader.actorId)
      })
      return
  }
}
