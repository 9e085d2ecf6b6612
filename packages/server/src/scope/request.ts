import { groupsOf, parseScope, settled, transactionsOf, type Scope } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { maskedFields } from '../ledger/masked.ts'
import { withAliases, withMembersOf } from '../ledger/aliases.ts'
import { whereScope } from '../ledger/scope-sql.ts'
import type { SignedIn } from '../http/bind.ts'
import { isLimited, nothing, reachOf } from '../ledger/reach.ts'
import { heldFields, keepRead } from './held.ts'
import { keepSoon } from './reading.ts'

/**
 * The scopes that all must hold for a request: what was asked, the person's reach, and what else may not be found out by
 * asking.
 * What fields held that they ask for is read from the ledger up to now.
 * @param waits however long that takes; else it goes on as a job meanwhile, and a problem says so
 * @throws Problem when any piece was not understood: the answer would otherwise be wider than the question.
 */
export async function requestedScopes(
  db: Database,
  text: string,
  person: SignedIn,
  { waits = false }: { waits?: boolean } = {},
): Promise<Scope[]> {
  const keep = (fields: readonly number[], named: boolean) =>
    waits ? keepRead(db, fields) : keepSoon(db, fields, { personId: person.id, named })
  const { scope, problems } = parseScope(new URLSearchParams(text))
  if (problems.length > 0)
    throw new Problem(
      'bad-scope',
      'Nothing is shown, because leaving out what was not understood would show more than was asked.',
      { pieces: problems },
    )
  const reach = reachOf(person) ?? {}
  const limits: Scope[] = [reach]
  await keep(heldFields([reach]), false)
  /** What a scope means for this person now. */
  const meant = async (one: Scope) =>
    withAliasesOf(db, await withMembersOf(db, settled(one, person.lookedAt ?? never), person))
  if (isLimited(reach)) {
    // When somebody joined is not told to whoever sees a part only, nor which saves belong to one that they may not see.
    if (scope.who && groupsOf(scope.who).some(({ group }) => group === 'joined')) limits.push(nothing)
    if (scope.how && !(await seesAll(db, transactionsOf(scope.how), await meant(reach)))) limits.push(nothing)
  }
  // What people said of saves is not for whoever sees a part only.
  if (scope.state && isLimited(reach)) limits.push(nothing)
  // What is masked may not be found out by asking for it.
  const masked = scope.value || scope.holds ? await maskedFields(db) : new Set<number>()
  if (scope.value && masked.size > 0)
    limits.push({ what: { part: 'what', exclude: true, types: [], fields: [...masked] } })
  if (scope.when?.effective) {
    const types = await typesWithMaskedDay(db)
    if (types.length > 0) limits.push({ what: { part: 'what', exclude: true, types, fields: [] } })
    if (isLimited(reach)) limits.push(await whereDaysAreSeen(db, reach))
  }
  const held = heldFields([scope])
  // What a record held comes from its whole history and from what was found of it, whoever may see that.
  const isTold = held.length === 0 || (!isLimited(reach) && !held.some((id) => masked.has(id)))
  if (!isTold) limits.push(nothing)
  else await keep(held, true)
  return await Promise.all([scope, ...limits].map(meant))
}

/** What a person may see at most; `{}` is everything. */
export async function reachFor(db: Database, person: SignedIn): Promise<Scope> {
  const [, reach = {}] = await requestedScopes(db, '', person)
  return reach
}

/** Whether all of some saves are within a reach. */
async function seesAll(db: Database, saves: readonly string[], reach: Scope): Promise<boolean> {
  if (saves.length === 0) return true
  const seen = db('ledger.save as s').whereRaw('s.id = any(?::bigint[])', [[...saves]])
  whereScope(seen, reach, 'save', 's', Date.now())
  const [row] = await seen.countDistinct<{ count: string }[]>('s.id as count')
  return Number(row?.count) === new Set(saves).size
}

/** Somebody who was never here has seen nothing yet. */
const never = '1970-01-01T00:00:00Z'

async function typesWithMaskedDay(db: Database): Promise<number[]> {
  const masked = [...(await maskedFields(db))]
  return await db('spoor.record_type').whereIn('effective_field_id', masked).pluck<number[]>('id')
}

/**
 * A record's day of effect comes from its whole history, so it may be asked for only where the reach has all changes of
 * the field that holds it.
 */
async function whereDaysAreSeen(db: Database, reach: Scope): Promise<Scope> {
  const { what, ...others } = reach
  if (!what || what.exclude || isLimited(others)) return nothing
  const types = await db('spoor.record_type')
    .where((q) => q.whereIn('id', [...what.types]).orWhereIn('effective_field_id', [...what.fields]))
    .pluck<number[]>('id')
  return types.length === 0 ? nothing : { what: { part: 'what', exclude: false, types, fields: [] } }
}

/** Whoever is asked for is meant under every login and name that turned out to be theirs. */
export async function withAliasesOf(db: Database, scope: Scope): Promise<Scope> {
  if (!scope.who) return scope
  return { ...scope, who: { ...scope.who, actors: await withAliases(db, scope.who.actors) } }
}
