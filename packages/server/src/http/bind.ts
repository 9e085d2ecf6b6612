import { setTimeout } from 'node:timers/promises'
import type { Request, RequestHandler, Response, Router } from 'express'
import * as v from 'valibot'
import { allows, type RouteShape, type Session } from '@spoor/contract'
import { Problem } from '../errors.ts'
import { checkAnswer } from './answers.ts'

export interface SignedIn extends NonNullable<Session['person']> {
  /** The actor whose saves are this person's own. */
  actorId: number | null
  /** Of an auditor: the scope they see at most, as a link's parameters, and the days on which they may. */
  reach: string | null
  reachFrom: string | null
  reachUntil: string | null
}

type Out<S> = S extends v.GenericSchema ? v.InferOutput<S> : undefined
type In<S> = S extends v.GenericSchema ? v.InferInput<S> : void

export interface Call<R extends RouteShape> {
  params: Out<R['params']>
  query: Out<R['query']>
  body: Out<R['body']>
  person: R['needs'] extends 'nobody' ? SignedIn | null : SignedIn
  request: Request
  response: Response
}

declare module 'express-session' {
  interface SessionData {
    personId: number
    token: string
    /** When somebody last did something, epoch milliseconds. */
    seenMs: number
    /** When it began, epoch milliseconds. */
    beganMs: number
  }
}

declare module 'express-serve-static-core' {
  interface Request {
    person?: SignedIn | null
  }
}

/** Puts one operation of the contract on a router: who asks, what is asked, then the answer. */
export function bind<R extends RouteShape>(
  router: Router,
  shape: R,
  handler: (call: Call<R>) => Promise<In<R['response']> | void>,
): void {
  const handle: RequestHandler = (request, response, next) => {
    const person = request.person ?? null
    demand(shape, person)
    const call = {
      params: read(shape.params, request.params, 'address'),
      query: read(shape.query, request.query, 'query'),
      body: read(shape.body, request.body, 'body'),
      person,
      request,
      response,
    } as Call<R>
    once(shape, () => handler(call), response)
      .then((answer) => {
        if (!shape.response || response.headersSent) return
        checkAnswer(shape, answer)
        response.json(answer)
      })
      .catch(next)
  }
  const method = shape.method.toLowerCase() as 'get' | 'post' | 'put' | 'delete'
  router[method](shape.path, handle)
}

const againAfterMs = 300
/** No longer than rights that were looked at in the beginning may count. */
const fileWithinMs = 300_000

/**
 * Does what is asked; a file, which nobody can ask for again by themselves, as soon as what it needs is read.
 * @throws Problem `being-read` where that takes too long, or at once where the answer is no file
 */
async function once<A>(
  { method, response: shown }: RouteShape,
  work: () => Promise<A>,
  response: Response,
): Promise<A> {
  const untilMs = performance.now() + fileWithinMs
  for (;;)
    try {
      return await work()
    } catch (error) {
      const isAwaited = error instanceof Problem && error.code === 'being-read'
      if (!isAwaited || shown || method !== 'GET' || response.headersSent) throw error
      if (response.destroyed || performance.now() > untilMs) throw error
      await setTimeout(againAfterMs)
    }
}

function demand(shape: RouteShape, person: SignedIn | null): void {
  if (shape.needs === 'nobody') return
  if (!person)
    throw new Problem(
      'not-signed-in',
      'Your session has ended or never began. Nothing was changed. Sign in and try again.',
    )
  if (shape.needs === 'session') return
  if (!allows(person.role, shape.needs))
    throw new Problem(
      'not-allowed',
      `Nothing was changed. An administrator can give you a role that allows this (${shape.needs}).`,
    )
}

/** PostgreSQL keeps every character in a text but this one. */
function holdsNul(input: unknown): boolean {
  // Without recursion: what is sent may be nested as deeply as its size allows.
  const waiting = [input]
  while (waiting.length > 0) {
    const one = waiting.pop()
    if (typeof one === 'string' && one.includes('\0')) return true
    if (typeof one !== 'object' || one === null) continue
    for (const [name, value] of Object.entries(one)) waiting.push(name, value)
  }
  return false
}

function read(schema: v.GenericSchema | undefined, input: unknown, where: string): unknown {
  if (!schema) return undefined
  if (holdsNul(input))
    throw new Problem(
      'bad-request',
      `Nothing was changed. In the ${where} is a character (U+0000) that no text can hold.`,
    )
  const parsed = v.safeParse(schema, input ?? {})
  if (parsed.success) return parsed.output
  const issue = parsed.issues[0]
  const path = v.getDotPath(issue)
  throw new Problem(
    'bad-request',
    `Nothing was changed. In the ${where}${path ? `, at ${path}` : ''}: ${issue.message}`,
  )
}
