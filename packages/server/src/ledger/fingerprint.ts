import { createHmac } from 'node:crypto'

/** What is kept of a field whose values are not: the source's salted hash under a key that never leaves Spoor, so that it cannot be guessed at from there. */
export function fingerprint(key: Buffer, sourceHash: string): string {
  return createHmac('sha256', key).update(sourceHash).digest('hex')
}
