import { Router } from 'express'
import { rateLimit, ipKeyGenerator } from 'express-rate-limit'
import type { Logger } from 'pino'
import { routes, type Session } from '@spoor/contract'
import { Problem } from '../errors.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { newToken } from '../http/session.ts'
import type { People } from './people.ts'

const triesPerSpell = 8
const spellMs = 5 * 60_000

export interface SessionDeps {
  people: People
  log: Logger
}

export function sessionRouter({ people, log }: SessionDeps): Router {
  const router = Router()

  // Only failures count, per address and login, so that one person's slips do not lock out another.
  const slow = rateLimit({
    windowMs: spellMs,
    limit: triesPerSpell,
    skipSuccessfulRequests: true,
    standardHeaders: true,
    legacyHeaders: false,
    keyGenerator: (request) =>
      `${ipKeyGenerator(request.ip ?? '')} ${String((request.body as { login?: unknown } | undefined)?.login ?? '').toLowerCase()}`,
    handler: (_request, _response, next) =>
      next(
        new Problem(
          'sign-in-slowed',
          'Too many sign-ins failed for this name from this address. Wait five minutes, then try again.',
        ),
      ),
  })
  router.post(routes.signIn.path, slow)

  bind(router, routes.readSession, async ({ request, person }) => {
    request.session.token ??= newToken()
    return { person: person && shown(person), token: request.session.token }
  })

  bind(router, routes.signIn, async ({ request, body }): Promise<Session> => {
    const person = await people.authenticate(body.login, body.password)
    if (!person) {
      log.warn({ address: request.ip }, 'sign-in refused')
      throw new Problem('sign-in-refused', 'The name and password do not belong together. Check both and try again.')
    }
    await new Promise<void>((done, fail) => request.session.regenerate((error) => (error ? fail(error) : done())))
    request.session.personId = person.id
    request.session.token = newToken()
    log.info({ personId: person.id }, 'signed in')
    return { person: shown(person), token: request.session.token }
  })

  bind(router, routes.signOut, async ({ request }) => {
    await new Promise<void>((done, fail) => request.session.regenerate((error) => (error ? fail(error) : done())))
    request.session.token = newToken()
    return { person: null, token: request.session.token }
  })

  return router
}

function shown({ id, login, name, role, permissions }: SignedIn): NonNullable<Session['person']> {
  return { id, login, name, role, permissions }
}
