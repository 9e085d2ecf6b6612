import { createHash } from 'node:crypto'
import type { PackTools } from '@spoor/core'
import { readTimeStamp } from './time-stamp.ts'
import { tools } from './verify.ts'

/** What checking a pack takes, by Node's own means. */
export const packTools: PackTools = {
  ...tools,
  hasher() {
    const hash = createHash('sha256')
    return { update: (bytes) => void hash.update(bytes), digest: () => new Uint8Array(hash.digest()) }
  },
  timeStamp: readTimeStamp,
  utf8: (bytes) => new TextDecoder('utf-8').decode(bytes),
}
