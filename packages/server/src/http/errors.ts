import type { ErrorRequestHandler } from 'express'
import type { Logger } from 'pino'
import { errorCode, Problem } from '../errors.ts'

/** The last handler: every failure leaves as a problem document; what was not foreseen is logged and not shown. */
export function problemHandler(log: Logger): ErrorRequestHandler {
  return (error: unknown, _request, response, next) => {
    if (response.headersSent) {
      next(error)
      return
    }
    const problem = asProblem(error, log)
    response.status(problem.status).type('application/problem+json').send(JSON.stringify(problem.body()))
  }
}

/** Whether there was no connection to be had: none free in the pool, or none more that the database gives. */
function isFull(error: unknown): boolean {
  return errorCode(error) === '53300' || (error instanceof Error && error.name === 'KnexTimeoutError')
}

function asProblem(error: unknown, log: Logger): Problem {
  if (error instanceof Problem) return error
  const status = (error as { status?: unknown }).status
  if (status === 413) return new Problem('too-large', 'The request is larger than Spoor accepts. Nothing was changed.')
  if (status === 404)
    return new Problem('not-found', 'There is no such file. The page may be from before an upgrade; load it again.')
  if (typeof status === 'number' && status >= 400 && status < 500)
    return new Problem('bad-request', 'The request could not be read. Nothing was changed.')
  if (isFull(error)) {
    log.warn({ err: error }, 'no connection to Spoor’s database was free')
    return new Problem(
      'busy',
      'Spoor’s database has no connection free just now. Nothing was changed. Try again in a moment.',
    )
  }
  log.error({ err: error }, 'unexpected failure')
  return new Problem(
    'unexpected',
    'The request failed and nothing of it was kept. Try again; the server’s log holds the cause.',
  )
}
