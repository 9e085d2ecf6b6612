import type { Obstacle } from '@spoor/contract'
import { errorCode } from '../errors.ts'

const words: Readonly<Record<string, string>> = {
  ECONNREFUSED: 'Nothing answers at the source’s address. Start the business database or mend the address.',
  ENOTFOUND: 'The source’s host name is not known. Mend the address.',
  ETIMEDOUT: 'The source does not answer. Check the network between Spoor and the business database.',
  ECONNRESET: 'The source broke the connection off.',
  '28P01': 'The source does not accept the password of Spoor’s login.',
  '28000': 'The source does not admit Spoor’s login from here.',
  '3D000': 'The database does not exist at the source’s address.',
  '57P01': 'The business database was shut down.',
  '57P03': 'The business database is starting up or shutting down.',
  '53300': 'The source has no connection free for Spoor.',
}

/** Whether a failure means that the source could not be talked to, rather than that it refused something. */
export function isUnreachable(error: unknown): boolean {
  const code = errorCode(error)
  if (code !== undefined) return code in words || code.startsWith('08')
  return (
    error instanceof Error &&
    (error.name === 'KnexTimeoutError' || /^Connection terminated|timeout expired/.test(error.message))
  )
}

/** Words for a source that cannot be reached; collecting resumes by itself when it comes back. */
export function unreachable(error: unknown): Obstacle {
  const known = words[errorCode(error) ?? '']
  return {
    words:
      known ?? 'The source cannot be reached. Check that the business database runs and that its address is right.',
    remedy: null,
  }
}
