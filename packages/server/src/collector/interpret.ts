import {
  actorKinds,
  canonicalKey,
  type ActorKind,
  type CapturedRow,
  type Delta,
  type LabelParts,
  type SaveAction,
} from '@spoor/core'
import * as v from 'valibot'
import type { KnownIdentity } from '../people/identities.ts'
import { readLabelParts } from '../capture/label-parts.ts'
import type { OutboxRow } from '../capture/outbox.ts'

/** What a login of the source may do. */
export interface KnownLogin {
  mayDeclare: boolean
  own: boolean
}

/** What is known of a source beyond its rows. */
export interface Known {
  logins: ReadonlyMap<string, KnownLogin>
  identities: readonly KnownIdentity[]
}

export interface Who {
  kind: ActorKind
  name: string
  claimed: boolean
}

/** A captured row understood: a save, but for its number and its actor's number. */
export interface CapturedSave extends CapturedRow {
  seq: string
  /** Of a line, the key of its parent. */
  parentKey: string | null
  label: string
  /** What the label is made of, where part of it is what another record is called. */
  labelOf: LabelParts | null
  who: Who
  onBehalfOf: string | null
  channel: string
  run: string | null
  reason: string | null
  correctionId: number | null
  login: string
  applicationName: string | null
  clientAddress: string | null
  planVersion: number
}

// PostgreSQL has no text with a NUL character; a context written by hand may smuggle one in.
const text = v.optional(
  v.nullable(
    v.pipe(
      v.string(),
      v.maxLength(4000),
      v.transform((given) => given.replaceAll('\0', '\ufffd')),
    ),
  ),
  null,
)
const Context = v.object({
  actor: text,
  kind: v.optional(v.nullable(v.string()), null),
  onBehalfOf: text,
  channel: text,
  run: text,
  reason: text,
  correction: v.optional(v.nullable(v.number()), null),
})
type Context = v.InferOutput<typeof Context>

const noContext: Context = {
  actor: null,
  kind: null,
  onBehalfOf: null,
  channel: null,
  run: null,
  reason: null,
  correction: null,
}

const actions: readonly SaveAction[] = ['create', 'change', 'delete']

export type Interpreted = { understood: true; save: CapturedSave } | { understood: false; seq: string; why: string }

/** Reads a row of the outbox. A context that is not one counts as none; anything else odd is said and set aside. */
export function interpret(row: OutboxRow, { logins, identities }: Known): Interpreted {
  const not = (why: string): Interpreted => ({ understood: false, seq: row.seq, why })
  if (row.forged_by !== null) return not(`it was not written by the capture but by ${row.forged_by}`)
  if (!/^(19|20)\d\d-\d\d-\d\dT/.test(row.captured_at))
    return not(`the time “${row.captured_at}” is not one at which this can have happened`)
  const action = actions.find((known) => known === row.action)
  if (!action) return not(`the action “${row.action}” is not known`)
  const key = canonicalKey(row.key)
  if (key === null) return not('the key is not a list of texts')
  const delta = readDelta(row.delta)
  if (!delta) return not('the values are not pairs of before and after')
  const login = logins.get(row.login) ?? { mayDeclare: false, own: false }
  const context = row.context === null ? noContext : readContext(row.context)
  const identity = identityOf(context, row, identities)
  return {
    understood: true,
    save: {
      seq: row.seq,
      at: row.captured_at,
      transaction: row.transaction_id,
      typeId: row.type_id,
      planVersion: row.plan_version,
      action,
      key,
      keyBefore: row.key_before === null ? null : canonicalKey(row.key_before),
      parentKey: row.parent_key === null ? null : canonicalKey(row.parent_key),
      label: row.label,
      labelOf: readLabelParts(row.label_of),
      delta,
      who: whoOf(context, row.login, login, identity),
      onBehalfOf: context.onBehalfOf ?? identity?.forName ?? null,
      channel: context.channel ?? 'direct SQL',
      run: context.run,
      reason: context.reason,
      correctionId: login.own ? context.correction : null,
      login: row.login,
      // Read without asking whether it was said, which costs less where it is captured.
      applicationName: row.application_name || null,
      clientAddress: row.client_address,
    },
  }
}

/** What somebody said goes before what the login says: one login may serve many people. */
function identityOf(context: Context, row: OutboxRow, identities: readonly KnownIdentity[]): KnownIdentity | undefined {
  const said = context.actor || null
  const day = row.captured_at.slice(0, 10)
  return identities.find(
    (one) =>
      one.by === (said === null ? 'login' : 'name') &&
      one.said === (said ?? row.login) &&
      (one.fromOn === null || one.fromOn <= day) &&
      (one.untilOn === null || one.untilOn >= day),
  )
}

function whoOf(context: Context, login: string, { mayDeclare }: KnownLogin, identity: KnownIdentity | undefined): Who {
  const said = context.actor || null
  const claimed = said !== null && !mayDeclare
  if (identity) return { kind: identity.kind, name: identity.name, claimed }
  if (said === null) return { kind: 'unknown', name: unknownName(login), claimed }
  const kind = actorKinds.find((known) => known === context.kind) ?? (context.kind === null ? 'person' : 'unknown')
  return { kind, name: said, claimed }
}

/** The name of the actor that a login stands for while nobody knows who it is. */
export function unknownName(login: string): string {
  return `login ${login}`
}

/** By hand, since it is asked of every row: pairs of texts or nulls by field number. @returns null for anything else. */
function readDelta(json: string): Delta | null {
  const delta = parseJson(json)
  if (typeof delta !== 'object' || delta === null || Array.isArray(delta)) return null
  for (const [fieldId, pair] of Object.entries(delta)) {
    if (!/^\d{1,10}$/.test(fieldId) || !Array.isArray(pair) || pair.length !== 2) return null
    if (!isCaptured(pair[0]) || !isCaptured(pair[1])) return null
  }
  return delta as Delta
}

function isCaptured(value: unknown): boolean {
  return value === null || (typeof value === 'string' && !value.includes('\0'))
}

function readContext(json: string): Context {
  const parsed = v.safeParse(Context, parseJson(json))
  return parsed.success ? parsed.output : noContext
}

/** @returns undefined for what is not JSON. */
function parseJson(json: string): unknown {
  try {
    return JSON.parse(json)
  } catch (error) {
    if (error instanceof SyntaxError) return undefined
    throw error
  }
}
