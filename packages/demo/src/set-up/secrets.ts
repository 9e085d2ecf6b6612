import { randomBytes } from 'node:crypto'
import { existsSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { databaseLogins, type DatabaseLogin } from '../larkmere/staff.ts'

/** The password of the staff list, which is no database login. */
export const staffListPassword = 'larkmere-staff-list'

export type LoginName = 'spoor_owner' | 'spoor_app' | 'spoor_eraser' | 'spoor_source' | DatabaseLogin

export const loginNames: readonly LoginName[] = [
  'spoor_owner',
  'spoor_app',
  'spoor_eraser',
  'spoor_source',
  ...databaseLogins,
]

/** Passwords of the demo's database logins, made once for a data directory and readable by its owner only. */
export type Secrets = Record<LoginName, string>

export function readSecrets(dataDir: string): Secrets {
  const file = join(dataDir, 'demo-secrets.json')
  const known = existsSync(file) ? (JSON.parse(readFileSync(file, 'utf8')) as Partial<Secrets>) : {}
  const secrets = Object.fromEntries(
    loginNames.map((name) => [name, known[name] ?? randomBytes(18).toString('base64url')]),
  ) as Secrets
  writeFileSync(file, JSON.stringify(secrets), { mode: 0o600 })
  return secrets
}
