import { randomBytes, timingSafeEqual } from 'node:crypto'
import connectPg from 'connect-pg-simple'
import type { Request, RequestHandler } from 'express'
import type { Role } from '@spoor/contract'
import session, { type SessionData } from 'express-session'
import type { Pool } from 'pg'
import { Problem } from '../errors.ts'
import type { SignedIn } from './bind.ts'

const sessionDays = 7
const writeSeenEveryMs = 30_000

export function sessions(pool: Pool, secret: string, https: boolean): RequestHandler {
  const Store = connectPg(session)
  return session({
    store: new Store({ pool, schemaName: 'spoor', tableName: 'session', pruneSessionInterval: 3600 }),
    name: 'spoor.session',
    secret,
    resave: false,
    saveUninitialized: false,
    rolling: false,
    cookie: { httpOnly: true, sameSite: 'strict', secure: https, maxAge: sessionDays * 86_400_000, path: '/' },
  })
}

export function newToken(): string {
  return randomBytes(24).toString('base64url')
}

/** How long a session lasts, in milliseconds: without anything done in it, and at most. */
export interface SessionLimits {
  idleMs: number
  mostMs: number
}

export interface Identifying {
  find(personId: number): Promise<SignedIn | null>
  limits(): Promise<SessionLimits>
  saw(personId: number): Promise<void>
}

/** Who a session belongs to, as of now. Null when it has ended, or the person may not be here any more. */
export async function personOf(session: Partial<SessionData>, { find, limits }: Identifying): Promise<SignedIn | null> {
  if (session.personId === undefined) return null
  const [person, { idleMs, mostMs }] = await Promise.all([find(session.personId), limits()])
  const nowMs = Date.now()
  const ended = nowMs - (session.seenMs ?? 0) > idleMs || nowMs - (session.beganMs ?? 0) > mostMs
  return ended ? null : person
}

/** Finds who a session belongs to, afresh for each request, so that a person switched off is out at once. */
export function identify(identifying: Identifying): RequestHandler {
  return (request, _response, next) => {
    personOf(request.session, identifying)
      .then(async (person) => {
        request.person = person
        const nowMs = Date.now()
        // What a page asks by itself while nobody touches it does not keep a session alive.
        const byItself = request.path === '/pulse' || request.get('x-spoor-untouched') !== undefined
        if (person && !byItself && nowMs - (request.session.seenMs ?? 0) > writeSeenEveryMs) {
          request.session.seenMs = nowMs
          await identifying.saw(person.id)
        }
        next()
      })
      .catch(next)
  }
}

/** Whether the session of a request that goes on is still somebody's who has a role. Asks the store, not what was read. */
export async function stillIn(request: Request, role: Role, identifying: Identifying): Promise<boolean> {
  const session = await new Promise<SessionData | null | undefined>((done, fail) =>
    request.sessionStore.get(request.sessionID, (error: unknown, found) =>
      error ? fail(error as Error) : done(found),
    ),
  )
  return session ? (await personOf(session, identifying))?.role === role : false
}

/** A request that changes something must carry the session's token, which no foreign page can read. */
export const guardToken: RequestHandler = (request, _response, next) => {
  if (['GET', 'HEAD', 'OPTIONS'].includes(request.method)) {
    next()
    return
  }
  const given = Buffer.from(String(request.get('x-spoor-token') ?? ''))
  const wanted = Buffer.from(request.session.token ?? '')
  if (wanted.length > 0 && given.length === wanted.length && timingSafeEqual(given, wanted)) next()
  else next(new Problem('forged-request', 'Nothing was changed. Load the page again and repeat what you did.'))
}
