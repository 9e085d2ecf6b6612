import * as v from 'valibot'
import { Instant } from './common.ts'
import { ProofHead } from './tracking-coverage.ts'
import { Draft, Obstacle, TrackedType, Words } from './tracking-plan.ts'

export const SourceMap = v.object({
  id: v.number(),
  name: v.string(),
  /** The address without its password. */
  address: v.string(),
  /** Logins there which may say who acts. */
  declaringLogins: v.array(v.string()),
  /** What keeps Spoor from working with the source at this moment. */
  obstacle: v.nullable(Obstacle),
  lookedAt: v.nullable(Instant),
  planVersion: v.number(),
  inForceSince: v.nullable(Instant),
  secondPerson: v.boolean(),
  /** A correction of more records takes a second person; null where none does for its size. */
  correctionsAbove: v.nullable(v.number()),
  proof: v.nullable(ProofHead),
  types: v.array(TrackedType),
  draft: Draft,
})
export type SourceMap = v.InferOutput<typeof SourceMap>

/** What a login of a source may do, found by trying before anything is kept. */
export const SourceCheck = v.object({
  checks: v.array(v.object({ words: v.string(), passed: v.boolean(), remedy: v.nullable(v.string()) })),
  database: v.nullable(v.string()),
  /** Whether a source can be made of it; single tables may still be in the way of themselves. */
  usable: v.boolean(),
  tables: v.number(),
  trackable: v.number(),
  /** Logins that may connect there, to choose from. */
  logins: v.array(v.string()),
  /** Where this login may make one of Spoor's own with no more rights than it needs: its name, and what would be run. */
  ownLogin: v.nullable(v.object({ login: v.string(), statements: v.array(v.string()) })),
})
export type SourceCheck = v.InferOutput<typeof SourceCheck>

/** What may be said of encryption in a source's address. Options that name files would have the server read them. */
const sslModes = ['disable', 'require', 'no-verify', 'verify-full']

const sourceUrl = new RegExp(
  String.raw`^postgres(ql)?://[^\s:@/?#]+(:[^\s@/?#]*)?@(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9._-]+)(:\d{1,5})?/[^\s/?#]+(\?sslmode=(${sslModes.join('|')}))?$`,
)

/** Whether an address says nothing but where a database is and who asks: no files, no sockets, no settings. */
export function isSourceUrl(text: string): boolean {
  try {
    decodeURIComponent(text)
  } catch {
    return false
  }
  return sourceUrl.test(text)
}

export const SourceUrl = v.pipe(
  v.string(),
  v.trim(),
  v.maxLength(2000),
  v.regex(/^postgres(ql)?:\/\//, 'The address begins with postgresql://'),
  v.check(
    isSourceUrl,
    `In an address stand a login, a password, a host, a port, a database and, of options, only sslmode (${sslModes.join(', ')}).`,
  ),
)
export const DeclaringLogins = v.pipe(v.array(Words), v.maxLength(100))
