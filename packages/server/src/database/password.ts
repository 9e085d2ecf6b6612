import { createHash, createHmac, pbkdf2Sync, randomBytes } from 'node:crypto'

const iterations = 4096

/** A password that fits into an address as it is. */
export function newPassword(): string {
  return randomBytes(24).toString('base64url')
}

/**
 * What PostgreSQL keeps of a password (RFC 5803), so that the password itself stands in no statement, and in no log of
 * statements. @param password of ASCII characters
 */
export function verifierOf(password: string): string {
  const salt = randomBytes(16)
  const salted = pbkdf2Sync(password, salt, iterations, 32, 'sha256')
  const hmac = (text: string) => createHmac('sha256', salted).update(text).digest()
  const stored = createHash('sha256').update(hmac('Client Key')).digest('base64')
  return `SCRAM-SHA-256$${iterations}:${salt.toString('base64')}$${stored}:${hmac('Server Key').toString('base64')}`
}
