import { hash } from 'node:crypto'
import type { Sha256, Sha256Hex } from '@spoor/core'

/** Node's SHA-256 as core takes it; a text is hashed as its UTF-8. */
export const sha256: Sha256 = (data) => hash('sha256', data, 'buffer')
export const sha256Hex: Sha256Hex = (text) => hash('sha256', text, 'hex')
