import { randomBytes, timingSafeEqual } from 'node:crypto'
import connectPg from 'connect-pg-simple'
import type { RequestHandler } from 'express'
import session from 'express-session'
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

/** Finds who a session belongs to, afresh for each request, so that a person switched off is out at once. */
export function identify(
  find: (personId: number) => Promise<SignedIn | null>,
  idleMs: () => Promise<number>,
  saw: (personId: number) => Promise<void>,
): RequestHandler {
  return (request, _response, next) => {
    const id = request.session.personId
    if (id === undefined) {
      request.person = null
      next()
      return
    }
    Promise.all([find(id), idleMs()])
      .then(async ([person, idle]) => {
        const seenMs = request.session.seenMs ?? 0
        const nowMs = Date.now()
        request.person = nowMs - seenMs > idle ? null : person
        // What a page asks by itself while nobody touches it does not keep a session alive.
        const byItself = request.path === '/pulse' || request.get('x-spoor-untouched') !== undefined
        if (request.person && !byItself && nowMs - seenMs > writeSeenEveryMs) {
          request.session.seenMs = nowMs
          await saw(request.person.id)
        }
        next()
      })
      .catch(next)
  }
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
