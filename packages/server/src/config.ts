import { isAbsolute, resolve } from 'node:path'
import { isSourceUrl } from '@spoor/contract'
import * as v from 'valibot'

const Port = v.pipe(v.string(), v.regex(/^\d{1,5}$/, 'a port number'), v.transform(Number), v.maxValue(65_535))
const Url = v.pipe(v.string(), v.regex(/^postgres(ql)?:\/\//, 'a postgresql:// address'))

const listed = (text: string) =>
  text
    .split(',')
    .map((one) => one.trim())
    .filter(Boolean)
const Folders = v.pipe(
  v.string(),
  v.transform(listed),
  v.array(v.pipe(v.string(), v.check(isAbsolute, 'folders from the root of the disk'))),
)
const Addresses = v.pipe(
  v.string(),
  v.transform(listed),
  v.array(v.pipe(v.string(), v.url('addresses'), v.regex(/^https?:\/\//, 'http:// or https:// addresses'))),
)

/** The environment, read here and nowhere else. */
const Environment = v.object({
  SPOOR_PORT: v.optional(Port, '4310'),
  SPOOR_HOST: v.optional(v.string(), '127.0.0.1'),
  SPOOR_DATA_DIR: v.optional(v.string(), '.spoor'),
  /** Spoor's own database, as the role the application works with. */
  SPOOR_DATABASE_URL: Url,
  /** The same database as the role that owns the schema; migrations run as it. Defaults to the one above. */
  SPOOR_OWNER_DATABASE_URL: v.optional(Url),
  /** The same database as the role that erases values, and does nothing else. Defaults to the owner's. */
  SPOOR_ERASURE_DATABASE_URL: v.optional(Url),
  /** A source to be registered at start if it is not yet. */
  SPOOR_SOURCE_NAME: v.optional(v.string()),
  SPOOR_SOURCE_URL: v.optional(
    v.pipe(Url, v.check(isSourceUrl, 'an address with nothing but a login, a host, a database and sslmode')),
  ),
  /** Logins of that source which may declare an actor, separated by commas. */
  SPOOR_SOURCE_DECLARING_LOGINS: v.optional(v.string(), ''),
  /** A staff list (CSV) to be loaded into the directory at start. */
  SPOOR_DIRECTORY_FILE: v.optional(v.string()),
  SPOOR_LOG_LEVEL: v.optional(v.picklist(['fatal', 'error', 'warn', 'info', 'debug', 'trace', 'silent']), 'info'),
  SPOOR_COLLECT_EVERY_MS: v.optional(v.pipe(v.string(), v.regex(/^\d{1,6}$/), v.transform(Number)), '200'),
  /** Time between seals of the ledger while there is something to seal. */
  SPOOR_SEAL_EVERY_MS: v.optional(v.pipe(v.string(), v.regex(/^\d{1,8}$/), v.transform(Number)), '60000'),
  /** The address of whoever stamps packs with the time (RFC 3161). */
  SPOOR_TIME_STAMP_URL: v.optional(
    v.pipe(v.string(), v.url('an address'), v.regex(/^https?:\/\//, 'an http:// or https:// address')),
  ),
  /** Folders, addresses and mail addresses that are given seals, separated by commas. */
  SPOOR_WITNESS_FOLDERS: v.optional(Folders, ''),
  SPOOR_WITNESS_URLS: v.optional(Addresses, ''),
  SPOOR_WITNESS_MAIL: v.optional(
    v.pipe(v.string(), v.transform(listed), v.array(v.pipe(v.string(), v.email('mail addresses')))),
  ),
  /** Where people reach Spoor, for links in messages; the address it listens at where nothing is said. */
  SPOOR_PUBLIC_URL: v.optional(
    v.pipe(v.string(), v.url('an address'), v.regex(/^https?:\/\/[^?#]+$/, 'an http:// or https:// address')),
  ),
  /** Where mail is given to be sent, and whom it is from. */
  SPOOR_MAIL_URL: v.optional(v.pipe(v.string(), v.regex(/^smtps?:\/\//, 'an smtp:// or smtps:// address'))),
  SPOOR_MAIL_FROM: v.optional(v.string(), 'Spoor <spoor@localhost>'),
  /** Set when Spoor is reached over https, so that cookies are Secure. */
  SPOOR_HTTPS: v.optional(v.picklist(['0', '1']), '0'),
  /** Proxies that are believed about the scheme and the address of who asks, where SPOOR_HTTPS is set; with commas. */
  SPOOR_TRUSTED_PROXIES: v.optional(v.string(), 'loopback, linklocal, uniquelocal'),
})

export interface ResolvedConfig {
  port: number
  host: string
  dataDir: string
  databaseUrl: string
  ownerDatabaseUrl: string
  erasureDatabaseUrl: string
  source: { name: string; url: string; declaringLogins: string[] } | null
  directoryFile: string | null
  logLevel: string
  collectEveryMs: number
  sealEveryMs: number
  timeStampUrl: string | null
  witnesses: { folders: string[]; urls: string[]; mail: string[] }
  mail: { url: string; from: string } | null
  publicUrl: string | null
  https: boolean
  trustedProxies: string[]
}

const firstHelp = `

  Has Spoor no database yet? With the address of a superuser of your PostgreSQL server, said once and not kept, it makes its own:

    SPOOR_MAKE_DATABASE_WITH=postgresql://postgres:…@127.0.0.1/postgres npm start`

export class ConfigError extends Error {}

const First = v.object({
  SPOOR_DATA_DIR: v.optional(v.string(), '.spoor'),
  SPOOR_DATABASE_URL: v.optional(v.string()),
  /** A superuser's address, by which Spoor's own database is made where none is said or kept. */
  SPOOR_MAKE_DATABASE_WITH: v.optional(Url),
})

/** What is wanted before it is known where the database is. @throws ConfigError */
export function readFirst(env: Record<string, string | undefined>): {
  dataDir: string
  databaseSaid: boolean
  makeWith: string | null
} {
  const parsed = v.safeParse(First, given(env))
  if (!parsed.success)
    throw new ConfigError('Spoor cannot start: SPOOR_MAKE_DATABASE_WITH is not a postgresql:// address.')
  const { SPOOR_DATA_DIR: dataDir, SPOOR_DATABASE_URL: said, SPOOR_MAKE_DATABASE_WITH: makeWith } = parsed.output
  return { dataDir: resolve(dataDir), databaseSaid: said !== undefined, makeWith: makeWith ?? null }
}

/** What is empty counts as not said. */
const given = (env: Record<string, string | undefined>) =>
  Object.fromEntries(Object.entries(env).filter(([, value]) => value !== undefined && value !== ''))

/** @throws ConfigError naming every variable that is missing or wrong. */
export function readConfig(env: Record<string, string | undefined>): ResolvedConfig {
  const said = given(env)
  const parsed = v.safeParse(Environment, said)
  if (!parsed.success) {
    const lines = parsed.issues.map((issue) => {
      const name = String(issue.path?.[0]?.key ?? '?')
      return said[name] === undefined ? `${name} is not set` : `${name} is not ${issue.message}`
    })
    throw new ConfigError(
      `Spoor cannot start: ${lines.join('; ')}. See “Configuration” in README.md.${said['SPOOR_DATABASE_URL'] ? '' : firstHelp}`,
    )
  }
  const e = parsed.output
  if (e.SPOOR_WITNESS_MAIL && e.SPOOR_WITNESS_MAIL.length > 0 && e.SPOOR_MAIL_URL === undefined)
    throw new ConfigError(
      'Spoor cannot start: SPOOR_WITNESS_MAIL names somebody who is to be given seals by mail, and SPOOR_MAIL_URL is not set. See “Configuration” in README.md.',
    )
  const ownerDatabaseUrl = e.SPOOR_OWNER_DATABASE_URL ?? e.SPOOR_DATABASE_URL
  return {
    port: e.SPOOR_PORT,
    host: e.SPOOR_HOST,
    dataDir: resolve(e.SPOOR_DATA_DIR),
    databaseUrl: e.SPOOR_DATABASE_URL,
    ownerDatabaseUrl,
    erasureDatabaseUrl: e.SPOOR_ERASURE_DATABASE_URL ?? ownerDatabaseUrl,
    source: e.SPOOR_SOURCE_URL
      ? {
          name: e.SPOOR_SOURCE_NAME ?? 'Business database',
          url: e.SPOOR_SOURCE_URL,
          declaringLogins: e.SPOOR_SOURCE_DECLARING_LOGINS.split(',').filter(Boolean),
        }
      : null,
    directoryFile: e.SPOOR_DIRECTORY_FILE ?? null,
    logLevel: e.SPOOR_LOG_LEVEL,
    collectEveryMs: e.SPOOR_COLLECT_EVERY_MS,
    sealEveryMs: e.SPOOR_SEAL_EVERY_MS,
    timeStampUrl: e.SPOOR_TIME_STAMP_URL ?? null,
    witnesses: {
      folders: e.SPOOR_WITNESS_FOLDERS,
      urls: e.SPOOR_WITNESS_URLS,
      mail: e.SPOOR_WITNESS_MAIL ?? [],
    },
    mail: e.SPOOR_MAIL_URL === undefined ? null : { url: e.SPOOR_MAIL_URL, from: e.SPOOR_MAIL_FROM },
    publicUrl: e.SPOOR_PUBLIC_URL?.replace(/\/+$/, '') ?? null,
    https: e.SPOOR_HTTPS === '1',
    trustedProxies: e.SPOOR_TRUSTED_PROXIES.split(',').map((one) => one.trim()),
  }
}
