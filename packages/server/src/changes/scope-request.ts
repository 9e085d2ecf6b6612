import { parseScope, type Scope } from '@spoor/core'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { reachOf } from '../people/reach.ts'

/**
 * The scopes that all must hold for a request: what was asked and what the person may see at most.
 * @throws Problem when any piece was not understood: the answer would otherwise be wider than the question.
 */
export function requestedScopes(text: string, person: SignedIn): Scope[] {
  const { scope, problems } = parseScope(new URLSearchParams(text))
  if (problems.length > 0)
    throw new Problem(
      'bad-scope',
      'Nothing is shown, because leaving out what was not understood would show more than was asked.',
      { pieces: problems },
    )
  const reach = reachOf(person)
  return reach ? [scope, reach] : [scope]
}
