import { randomBytes } from 'node:crypto'
import { existsSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'

/** Passwords of the demo's database logins, made once for a data directory and readable by its owner only. */
export type Secrets = Record<'spoor_owner' | 'spoor_app' | 'spoor_source' | 'desk_app', string>

export function readSecrets(dataDir: string): Secrets {
  const file = join(dataDir, 'demo-secrets.json')
  if (!existsSync(file)) {
    const fresh = () => randomBytes(18).toString('base64url')
    const made: Secrets = { spoor_owner: fresh(), spoor_app: fresh(), spoor_source: fresh(), desk_app: fresh() }
    writeFileSync(file, JSON.stringify(made), { mode: 0o600 })
  }
  return JSON.parse(readFileSync(file, 'utf8')) as Secrets
}
