import type { Scope } from '@spoor/core'
import type { SignedIn } from '../http/bind.ts'

/**
 * What a person may see at most, as a scope that is added to every scope they ask for, counts and suggestions
 * included. Null means everything.
 */
export function reachOf(person: SignedIn): Scope | null {
  if (person.role !== 'contributor') return null
  // A contributor without an actor of their own sees nothing: no actor has the number 0.
  return { who: { part: 'who', exclude: false, actors: [person.actorId ?? 0], kinds: [] } }
}
