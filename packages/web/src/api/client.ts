import type { ProblemBody, RouteShape } from '@spoor/contract'
import { endWait, untilAgain, waitFor, type Wait } from './waiting.ts'
import type { GenericSchema, InferInput, InferOutput } from 'valibot'

type Given<S> = S extends GenericSchema ? InferInput<S> : undefined
type Answer<S> = S extends GenericSchema ? InferOutput<S> : undefined

export interface CallInput<R extends RouteShape> {
  params?: Given<R['params']>
  query?: Given<R['query']>
  body?: Given<R['body']>
  signal?: AbortSignal
}

/** A problem the server answered with, or that it could not be reached. */
export class CallProblem extends Error {
  readonly problem: ProblemBody
  constructor(problem: ProblemBody) {
    super(problem.detail)
    this.problem = problem
  }
}

let token = ''
let signedOut: () => void = () => undefined

let touchedMs = Date.now()
for (const kind of ['pointerdown', 'keydown', 'wheel'])
  window.addEventListener(kind, () => (touchedMs = Date.now()), { passive: true, capture: true })
/** After so long without a touch, what a page asks by itself does not keep the session alive. */
const untouchedAfterMs = 60_000

export function setToken(value: string): void {
  token = value
}

/** What to do when the server says that the session has ended. */
export function onSignedOut(action: () => void): void {
  signedOut = action
}

export function addressOf<R extends RouteShape>(
  shape: R,
  { params, query }: Pick<CallInput<R>, 'params' | 'query'>,
): string {
  const path = shape.path.replace(/:(\w+)/g, (_, name: string) =>
    encodeURIComponent(String((params as Record<string, unknown>)[name])),
  )
  const search = new URLSearchParams()
  for (const [name, value] of Object.entries((query ?? {}) as Record<string, unknown>))
    if (value !== undefined) search.set(name, String(value))
  return `/api/v1${path}${search.size > 0 ? `?${search.toString()}` : ''}`
}

const unreachable: ProblemBody = {
  type: 'urn:spoor:problem:unreachable',
  code: 'unexpected',
  title: 'Spoor does not answer',
  status: 0,
  detail:
    'The server cannot be reached. What you see was loaded earlier; nothing was changed. Try again when it is back.',
}

/** What stands at an address, as text. @throws CallProblem */
export async function textAt(address: string): Promise<string> {
  let response: Response
  try {
    response = await fetch(address)
  } catch {
    throw new CallProblem(unreachable)
  }
  if (!response.ok) throw new CallProblem((await response.json()) as ProblemBody)
  return await response.text()
}

/**
 * What the server answers; while it reads what it needs for that, the call waits, and says so.
 * @throws CallProblem
 */
export async function call<R extends RouteShape>(shape: R, input: CallInput<R> = {}): Promise<Answer<R['response']>> {
  let wait: Wait | null = null
  try {
    for (;;) {
      try {
        return await callOnce(shape, input)
      } catch (error) {
        if (!(error instanceof CallProblem) || error.problem.code !== 'being-read' || wait?.stopped) throw error
        wait = waitFor(wait, error.problem)
        await untilAgain(input.signal)
      }
    }
  } finally {
    if (wait) endWait(wait)
  }
}

async function callOnce<R extends RouteShape>(shape: R, input: CallInput<R>): Promise<Answer<R['response']>> {
  const init: RequestInit = {
    method: shape.method,
    headers: {
      accept: 'application/json',
      ...(Date.now() - touchedMs > untouchedAfterMs ? { 'x-spoor-untouched': '1' } : {}),
    },
    ...(input.signal ? { signal: input.signal } : {}),
  }
  if (shape.method !== 'GET') {
    init.headers = { ...init.headers, 'content-type': 'application/json', 'x-spoor-token': token }
    init.body = JSON.stringify(input.body ?? {})
  }
  let response: Response
  try {
    response = await fetch(addressOf(shape, input), init)
  } catch (error) {
    if ((error as Error).name === 'AbortError') throw error
    throw new CallProblem(unreachable)
  }
  if (response.ok) return (await response.json()) as Answer<R['response']>
  const problem = response.headers.get('content-type')?.includes('problem+json')
    ? ((await response.json()) as ProblemBody)
    : unreachable
  if (problem.code === 'not-signed-in') signedOut()
  throw new CallProblem(problem)
}

/** Any failure as a problem that can be shown. */
export function problemOf(error: unknown): ProblemBody {
  if (error instanceof CallProblem) return error.problem
  return {
    ...unreachable,
    title: 'Something went wrong on this page',
    detail: 'Nothing was changed. Load the page again.',
  }
}
