import { Router, type Request } from 'express'
import { rateLimit, ipKeyGenerator } from 'express-rate-limit'
import type { Logger } from 'pino'
import { isZone } from '@spoor/core'
import { routes, type Session } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { newToken } from '../http/session.ts'
import { recorded, recordEvent } from '../ledger/events.ts'
import type { FirstPerson } from './first-person.ts'
import { loginName, type People } from './people.ts'
import { mayToday } from '../ledger/reach.ts'
import type { SignInRuleBook } from './sign-in-rules.ts'

const spellMs = 5 * 60_000
/** An office behind one address may have so many people who all mistype as often as they may. */
const namesAtAddress = 5

export interface SessionDeps {
  db: Database
  first: FirstPerson
  people: People
  rules: SignInRuleBook
  log: Logger
}

export function sessionRouter({ db, first, people, rules, log }: SessionDeps): Router {
  const router = Router()

  // Only failures count: per address and name, so that one person's slips do not lock out another; then per address
  // whatever the names are.
  const slow = (times: number, from: string, keyOf: (request: Request) => string) =>
    rateLimit({
      windowMs: spellMs,
      limit: async () => times * (await rules.read()).triesBeforeWait,
      skipSuccessfulRequests: true,
      standardHeaders: true,
      legacyHeaders: false,
      keyGenerator: (request) => `${ipKeyGenerator(request.ip ?? '')} ${keyOf(request)}`,
      handler: (_request, _response, next) =>
        next(new Problem('sign-in-slowed', `Too many tries failed ${from}. Wait five minutes, then try again.`)),
    })
  const typedName = (request: Request) => {
    const typed = (request.body as { login?: unknown } | undefined)?.login
    return typeof typed === 'string' ? loginName(typed) : ''
  }
  router.post(
    routes.signIn.path,
    slow(1, 'for this name from this address', typedName),
    slow(namesAtAddress, 'from this address', () => ''),
  )
  router.post(
    routes.makeFirst.path,
    slow(namesAtAddress, 'from this address', () => 'first'),
  )
  router.put(
    routes.changeOwnPassword.path,
    slow(1, 'for this password', (request) => String(request.person?.id)),
  )

  bind(router, routes.readFirst, async () => ({ wanted: await first.wanted() }))
  bind(router, routes.makeFirst, async ({ request, body: { key, ...person } }) => {
    await rules.demandPassword(person.password)
    await first.make(key, person, request.ip)
    return { made: true as const }
  })

  bind(router, routes.readSession, async ({ request, person }) => {
    request.session.token ??= newToken()
    return { person: person && shown(person), token: request.session.token }
  })

  bind(router, routes.signIn, async ({ request, body }): Promise<Session> => {
    const person = await people.authenticate(body.login, body.password)
    if (!person) {
      log.warn({ address: request.ip }, 'sign-in refused')
      await recordEvent(db, {
        ...signInEvent(null, request),
        outcome: 'refused',
        words: 'was refused: the name and password did not belong together',
      })
      throw new Problem('sign-in-refused', 'The name and password do not belong together. Check both and try again.')
    }
    if (!mayToday(person, new Date().toISOString().slice(0, 10))) {
      await recordEvent(db, {
        ...signInEvent(person.id, request),
        outcome: 'refused',
        words: 'was refused: outside the days of their access',
      })
      throw new Problem(
        'not-allowed',
        `Your access runs from ${person.reachFrom ?? 'the beginning'} until ${person.reachUntil ?? 'further notice'}. An administrator can change the days.`,
      )
    }
    await new Promise<void>((done, fail) => request.session.regenerate((error) => (error ? fail(error) : done())))
    request.session.personId = person.id
    request.session.seenMs = Date.now()
    request.session.beganMs = Date.now()
    await recordEvent(db, { ...signInEvent(person.id, request), words: 'signed in' })
    request.session.token = newToken()
    log.info({ personId: person.id }, 'signed in')
    return { person: shown(person), token: request.session.token }
  })

  bind(router, routes.lookedUntil, async ({ request, body, person }) => {
    await people.lookedUntil(person.id, body.at)
    const now = await people.find(person.id)
    return { person: now && shown(now), token: request.session.token ?? '' }
  })

  bind(router, routes.chooseZone, async ({ request, body: { zone }, person }) => {
    if (zone !== null && !isZone(zone))
      throw new Problem('bad-request', `The time zone “${zone}” is not known. Times are told as before.`)
    await people.chooseZone(person.id, zone)
    const now = await people.find(person.id)
    return { person: now && shown(now), token: request.session.token ?? '' }
  })

  bind(router, routes.changeOwnPassword, async ({ request, body, person }) => {
    const event = {
      kind: 'person',
      personId: person.id,
      words: 'changed their own password',
      address: request.ip,
    } as const
    return await recorded(db, event, async () => {
      await rules.demandPassword(body.password)
      if (!(await people.changeOwnPassword(person.id, body.current, body.password, request.sessionID)))
        throw new Problem('sign-in-refused', 'The present password is not right. The password was not changed.')
      return { person: shown(person), token: request.session.token ?? '' }
    })
  })

  bind(router, routes.signOut, async ({ request, person }) => {
    await recordEvent(db, { ...signInEvent(person.id, request), words: 'signed out' })
    await new Promise<void>((done, fail) => request.session.regenerate((error) => (error ? fail(error) : done())))
    request.session.token = newToken()
    return { person: null, token: request.session.token }
  })

  return router
}

function signInEvent(personId: number | null, request: Request) {
  return { kind: 'sign-in', personId, address: request.ip } as const
}

function shown({ id, login, name, role, lookedAt, zone, permissions }: SignedIn): NonNullable<Session['person']> {
  return { id, login, name, role, lookedAt, zone, permissions }
}
