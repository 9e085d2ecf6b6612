import { randomBytes, timingSafeEqual } from 'node:crypto'
import connectPg from 'connect-pg-simple'
import type { RequestHandler } from 'express'
import session from 'express-session'
import type { Pool } from 'pg'
import { Problem } from '../errors.ts'
import type { SignedIn } from './bind.ts'

const sessionDays = 7

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
export function identify(find: (personId: number) => Promise<SignedIn | null>): RequestHandler {
  return (request, _response, next) => {
    const id = request.session.personId
    if (id === undefined) {
      request.person = null
      next()
      return
    }
    find(id).then((person) => {
      request.person = person
      next()
    }, next)
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
