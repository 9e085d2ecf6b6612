import { sightOf } from '@spoor/contract'
import { parseScope, type Scope } from '@spoor/core'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'

/** A contributor without an actor of their own, or an auditor without a scope, sees nothing: no actor has number 0. */
export const nothing: Scope = { who: { part: 'who', exclude: false, actors: [0], kinds: [] } }

/**
 * What a person may see at most, as a scope that is added to every scope they ask for, counts and suggestions
 * included. Null means everything.
 */
export function reachOf(person: SignedIn): Scope | null {
  const sight = sightOf(person.role)
  if (sight === 'own')
    return person.actorId === null
      ? nothing
      : { who: { part: 'who', exclude: false, actors: [person.actorId], kinds: [] } }
  if (sight === 'everything') return null
  if (person.reach === null) return nothing
  const { scope, problems } = parseScope(new URLSearchParams(person.reach))
  return problems.length > 0 || !isLimited(scope) ? nothing : scope
}

/** Whether a reach leaves anything out; `{}` stands for everything. */
export function isLimited(reach: Scope): boolean {
  return Object.keys(reach).length > 0
}

/** Of the scopes of a request (what was asked, the reach, further limits) the reach. */
export function reachIn([, reach = {}]: readonly Scope[]): Scope {
  return reach
}

/**
 * @param scopes of a request
 * @throws Problem for whoever sees a part: what all records hold comes from saves of anybody, and from what was found
 */
export function demandWhole(scopes: readonly Scope[]): void {
  if (isLimited(reachIn(scopes)))
    throw new Problem('not-allowed', 'Whoever sees a part of the trail is not told what all records hold or held.')
}

/** Whether today lies in the days on which somebody may see anything, both included. */
export function mayToday(
  { reachFrom, reachUntil }: Pick<SignedIn, 'reachFrom' | 'reachUntil'>,
  today: string,
): boolean {
  return (reachFrom === null || reachFrom <= today) && (reachUntil === null || reachUntil >= today)
}
