import * as v from 'valibot'
import { Instant, IntParam, Reason, IdNumber, GivenDay } from './common.ts'
import { PlanFile } from './plan-file.ts'
import { route } from './route.ts'

export const KeepOrOff = v.picklist(['values', 'fingerprint', 'off'])
const ReasonRule = v.picklist(['never', 'asked', 'required'])
const NewColumns = v.picklist(['track', 'wait'])
export const FailureRule = v.picklist(['refuse', 'pass'])
const FoundRule = v.picklist(['take', 'leave'])
const Words = v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(200))
const Id = v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(2_147_483_647))

/** Why something cannot be tracked, and the exact statement that would mend it. */
export const Obstacle = v.object({ words: v.string(), remedy: v.nullable(v.string()) })
export type Obstacle = v.InferOutput<typeof Obstacle>

export const Lock = v.object({ until: v.nullable(GivenDay) })

export const TrackedField = v.object({
  id: v.number(),
  name: v.string(),
  column: v.string(),
  dataType: v.string(),
  comment: v.nullable(v.string()),
  partOfKey: v.boolean(),
  generated: v.boolean(),
  keep: KeepOrOff,
  masked: v.boolean(),
  sensitive: v.boolean(),
  reason: ReasonRule,
  derivedFrom: v.array(v.number()),
  lock: v.nullable(Lock),
  trackedSince: v.nullable(Instant),
  /** Changed between two looks at the source though it was not tracked. */
  unseen: v.boolean(),
  /** The record type whose key it holds. */
  refersTo: v.nullable(v.number()),
})
export type TrackedField = v.InferOutput<typeof TrackedField>

export const TrackedType = v.object({
  id: v.number(),
  name: v.string(),
  plural: v.string(),
  area: v.string(),
  schema: v.string(),
  table: v.string(),
  comment: v.nullable(v.string()),
  obstacle: v.nullable(Obstacle),
  reason: ReasonRule,
  newColumns: NewColumns,
  /** What becomes of a save that cannot be captured. */
  onFailure: FailureRule,
  /** Whether what is there when tracking begins is taken in. */
  asFound: FoundRule,
  /** Fields that name a record of it, in order. */
  labelFields: v.array(v.number()),
  /** The record type whose trail its saves are read in. */
  parent: v.nullable(v.object({ typeId: v.number(), fieldIds: v.array(v.number()) })),
  /** The field whose day says when a record takes effect; null when none is named. */
  effectiveFieldId: v.nullable(v.number()),
  /** Parents it could have, by foreign keys that may not be empty. */
  possibleParents: v.array(v.object({ typeId: v.number(), fieldIds: v.array(v.number()) })),
  /** Saves a day over the last 28 days, or since it is tracked when that is less; null when not tracked. */
  savesPerDay: v.nullable(v.number()),
  /** Rows a day that were written and made no save, at most; null when not known yet. */
  unseenPerDay: v.nullable(v.number()),
  fields: v.array(TrackedField),
})
export type TrackedType = v.InferOutput<typeof TrackedType>

export const FieldEdit = v.strictObject({
  typeId: Id,
  fieldId: Id,
  keep: v.optional(KeepOrOff),
  masked: v.optional(v.boolean()),
  sensitive: v.optional(v.boolean()),
  reason: v.optional(ReasonRule),
  derivedFrom: v.optional(v.pipe(v.array(Id), v.maxLength(100))),
  lock: v.optional(v.nullable(v.strictObject({ until: v.nullable(GivenDay) }))),
})
export const RuleEdit = v.strictObject({
  typeId: Id,
  reason: v.optional(ReasonRule),
  newColumns: v.optional(NewColumns),
  onFailure: v.optional(FailureRule),
  asFound: v.optional(FoundRule),
})
export const PlanRuleEdit = v.strictObject({ secondPerson: v.boolean() })
export const PlanEdit = v.union([PlanRuleEdit, FieldEdit, RuleEdit])

export const Draft = v.object({
  /** Rises with every edit; an edit names the revision it was made on. */
  revision: v.number(),
  edits: v.array(PlanEdit),
  by: v.nullable(v.string()),
  at: v.nullable(Instant),
  /** Waiting for a second person since, with its reason; gone with the next edit. */
  proposed: v.nullable(v.object({ by: v.string(), byId: v.number(), at: Instant, reason: v.string() })),
  /** Why it was sent back, until it is edited or proposed again. */
  sentBack: v.nullable(v.object({ by: v.string(), at: Instant, why: v.string() })),
})
export type Draft = v.InferOutput<typeof Draft>

export const ProofHead = v.object({
  id: v.number(),
  at: Instant,
  by: v.string(),
  planVersion: v.number(),
  recorded: v.number(),
  missed: v.number(),
  untried: v.number(),
})
export type ProofHead = v.InferOutput<typeof ProofHead>

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

const SourceUrl = v.pipe(
  v.string(),
  v.trim(),
  v.maxLength(2000),
  v.regex(/^postgres(ql)?:\/\//, 'The address begins with postgresql://'),
  v.check(
    isSourceUrl,
    `In an address stand a login, a password, a host, a port, a database and, of options, only sslmode (${sslModes.join(', ')}).`,
  ),
)
const DeclaringLogins = v.pipe(v.array(Words), v.maxLength(100))

export const Load = v.object({ savesPerDay: v.number(), changesPerDay: v.number(), bytesPerDay: v.number() })

/** What a draft would cost, from what the source and the ledger counted. */
export const DraftCost = v.object({
  now: Load,
  then: Load,
  /** Bytes that one change takes in the ledger, and whether that was measured or assumed. */
  bytesPerChange: v.number(),
  measured: v.boolean(),
  /** The spell in which the source counted its writes; null when it has been looked at only once. */
  from: v.nullable(Instant),
  to: v.nullable(Instant),
  /** Tables in the draft of which no count is known yet. */
  unknown: v.array(v.string()),
  /** What is there of fields that begin to be tracked, to be taken in once; null while the source does not say how much. */
  found: v.nullable(v.object({ records: v.number(), values: v.number(), bytes: v.number(), seconds: v.number() })),
})
export type DraftCost = v.InferOutput<typeof DraftCost>

/** How long the writing of one row took with and without the draft's triggers, in a transaction rolled back. */
export const TypeRehearsal = v.object({
  typeId: v.number(),
  rows: v.number(),
  plainMs: v.nullable(v.number()),
  trackedMs: v.nullable(v.number()),
  /** Why it was not tried. */
  why: v.nullable(v.string()),
})
export type TypeRehearsal = v.InferOutput<typeof TypeRehearsal>

export const PlanLine = v.object({
  typeId: v.nullable(v.number()),
  fieldId: v.nullable(v.number()),
  words: v.array(v.string()),
})
export const PlanVersion = v.object({
  version: v.number(),
  state: v.picklist(['installing', 'in force', 'superseded', 'refused']),
  reason: v.string(),
  by: v.nullable(v.string()),
  approvedBy: v.nullable(v.string()),
  at: Instant,
  /** Against the version that was in force before it. */
  lines: v.array(PlanLine),
})
export type PlanVersion = v.InferOutput<typeof PlanVersion>

/** What a plan from elsewhere would change, before anything is staged. */
export const DryRun = v.object({
  source: v.nullable(v.string()),
  planVersion: v.nullable(v.number()),
  lines: v.array(PlanLine),
  edits: v.array(PlanEdit),
  /** What keeps it from being staged, in words. */
  troubles: v.array(v.string()),
  /** Names it has that the source does not; they can be left out. */
  unknown: v.array(v.string()),
})
export type DryRun = v.InferOutput<typeof DryRun>

export const Installation = v.object({
  /** What is being done at this moment; null when nothing is. */
  doing: v.nullable(v.string()),
  done: v.number(),
  of: v.number(),
  since: v.nullable(Instant),
})
export type Installation = v.InferOutput<typeof Installation>

export const Spell = v.object({
  from: Instant,
  to: v.nullable(Instant),
  keep: v.string(),
  endedBecause: v.nullable(v.string()),
})
export const FieldCoverage = v.object({
  fieldId: v.number(),
  spells: v.array(Spell),
  lastChange: v.nullable(Instant),
  changesPerDay: v.number(),
  proof: v.nullable(v.object({ outcome: v.string(), words: v.string(), at: Instant })),
})
export const TypeCoverage = v.object({ typeId: v.number(), from: v.nullable(Instant), fields: v.array(FieldCoverage) })
export type TypeCoverage = v.InferOutput<typeof TypeCoverage>

export const ProofField = v.object({
  typeId: v.number(),
  fieldId: v.number(),
  outcome: v.picklist(['recorded', 'missed', 'untried']),
  words: v.string(),
})
export const Proof = v.object({ ...ProofHead.entries, fields: v.array(ProofField) })
export type Proof = v.InferOutput<typeof Proof>

export const BlindSpot = v.object({
  typeId: v.number(),
  /** Untracked fields seen to change; empty when it is not known which. */
  fieldIds: v.array(v.number()),
  tracked: v.boolean(),
  perDay: v.number(),
  from: Instant,
  to: Instant,
})
export type BlindSpot = v.InferOutput<typeof BlindSpot>

const sourceParams = v.object({ sourceId: IntParam })
const draftBody = v.strictObject({ revision: IdNumber, reason: Reason })
const tracking = '/tracking/sources/:sourceId'

export const trackingRoutes = {
  readTracking: route({
    method: 'GET',
    path: '/tracking',
    needs: 'tracking.read',
    summary: 'Every source with its record types and fields, how each is kept, and the draft',
    response: v.object({ sources: v.array(SourceMap) }),
  }),
  checkSource: route({
    method: 'POST',
    path: '/tracking/sources/check',
    needs: 'tracking.edit',
    summary: 'Try an address and say what its login may do, without keeping anything',
    body: v.strictObject({ url: SourceUrl }),
    response: SourceCheck,
  }),
  addSource: route({
    method: 'POST',
    path: '/tracking/sources',
    needs: 'tracking.edit',
    summary: 'Connect a source',
    body: v.strictObject({ name: Words, url: SourceUrl, declaringLogins: DeclaringLogins }),
    response: v.object({ sourceId: v.number() }),
  }),
  changeSource: route({
    method: 'PUT',
    path: tracking,
    needs: 'tracking.edit',
    summary: 'Rename a source, renew its address, or say which logins may declare who acts',
    params: sourceParams,
    body: v.strictObject({ name: Words, url: v.optional(SourceUrl), declaringLogins: DeclaringLogins }),
    response: v.object({ sourceId: v.number() }),
  }),
  lookAtSource: route({
    method: 'POST',
    path: `${tracking}/look`,
    needs: 'tracking.read',
    summary: 'Look at the source now: its tables, columns and counts',
    params: sourceParams,
    response: v.object({ tables: v.number() }),
  }),
  takeFound: route({
    method: 'POST',
    path: '/tracking/types/:typeId/found',
    needs: 'tracking.edit',
    summary: 'Take in once more what the records of a type hold now, as found',
    params: v.object({ typeId: IntParam }),
    response: v.object({ asked: v.literal(true) }),
  }),
  describeType: route({
    method: 'PUT',
    path: '/tracking/types/:typeId',
    needs: 'tracking.edit',
    summary: 'Say how a record type is called, where it stands, which fields name a record and whose line it is',
    params: v.object({ typeId: IntParam }),
    body: v.strictObject({
      name: Words,
      plural: Words,
      area: Words,
      labelFields: v.pipe(v.array(Id), v.maxLength(5)),
      parentTypeId: v.nullable(Id),
      effectiveFieldId: v.nullable(Id),
    }),
    response: v.object({ typeId: v.number() }),
  }),
  describeField: route({
    method: 'PUT',
    path: '/tracking/fields/:fieldId',
    needs: 'tracking.edit',
    summary: 'Say how a field is called and which record type it refers to',
    params: v.object({ fieldId: IntParam }),
    body: v.strictObject({ name: Words, refersTo: v.nullable(Id) }),
    response: v.object({ fieldId: v.number() }),
  }),
  stageEdits: route({
    method: 'PUT',
    path: `${tracking}/draft`,
    needs: 'tracking.edit',
    summary: 'Replace the draft of a source',
    params: sourceParams,
    body: v.strictObject({
      revision: IdNumber,
      edits: v.pipe(v.array(PlanEdit), v.maxLength(50_000)),
      /** For each new lock the words that say what it means, typed by the person. */
      lockWords: v.optional(v.pipe(v.array(v.string()), v.maxLength(100)), []),
    }),
    response: Draft,
  }),
  previewDraft: route({
    method: 'GET',
    path: `${tracking}/draft/sql`,
    needs: 'tracking.read',
    summary: 'The SQL that putting the draft in force would run in the source',
    params: sourceParams,
    response: v.object({ sql: v.string() }),
  }),
  costDraft: route({
    method: 'GET',
    path: `${tracking}/draft/cost`,
    needs: 'tracking.read',
    summary: 'What the draft would write into the ledger, from what was counted',
    params: sourceParams,
    response: DraftCost,
  }),
  rehearseDraft: route({
    method: 'POST',
    path: `${tracking}/draft/rehearsal`,
    needs: 'tracking.edit',
    summary: 'Write rows with and without the draft’s triggers in a transaction that is rolled back, and take the time',
    params: sourceParams,
    response: v.object({ types: v.array(TypeRehearsal) }),
  }),
  proposeDraft: route({
    method: 'POST',
    path: `${tracking}/draft/proposal`,
    needs: 'tracking.edit',
    summary: 'Ask a second person to put the draft in force',
    params: sourceParams,
    body: draftBody,
    response: Draft,
  }),
  sendDraftBack: route({
    method: 'DELETE',
    path: `${tracking}/draft/proposal`,
    needs: 'tracking.approve',
    summary: 'Send a proposed draft back with words',
    params: sourceParams,
    body: v.strictObject({ revision: IdNumber, why: Reason }),
    response: Draft,
  }),
  putInForce: route({
    method: 'POST',
    path: `${tracking}/plan`,
    needs: 'tracking.approve',
    summary: 'Put the draft in force',
    params: sourceParams,
    body: draftBody,
    response: v.object({ planVersion: v.number() }),
  }),
  readInstallation: route({
    method: 'GET',
    path: `${tracking}/installation`,
    needs: 'tracking.read',
    summary: 'How far putting a plan in force is',
    params: sourceParams,
    response: Installation,
  }),
  stopInstallation: route({
    method: 'DELETE',
    path: `${tracking}/installation`,
    needs: 'tracking.approve',
    summary: 'Stop putting a plan in force; the source stays as it was',
    params: sourceParams,
    response: Installation,
  }),
  listVersions: route({
    method: 'GET',
    path: `${tracking}/versions`,
    needs: 'tracking.read',
    summary: 'The versions of the tracking plan, newest first',
    params: sourceParams,
    response: v.object({ versions: v.array(PlanVersion) }),
  }),
  compareVersions: route({
    method: 'GET',
    path: `${tracking}/versions/difference`,
    needs: 'tracking.read',
    summary: 'What differs between two versions',
    params: sourceParams,
    query: v.object({ from: IntParam, to: IntParam }),
    response: v.object({ lines: v.array(PlanLine) }),
  }),
  returnToVersion: route({
    method: 'GET',
    path: `${tracking}/versions/:version/return`,
    needs: 'tracking.read',
    summary: 'What returning to a version would change, as edits to be staged',
    params: v.object({ sourceId: IntParam, version: IntParam }),
    response: DryRun,
  }),
  writePlanFile: route({
    method: 'GET',
    path: `${tracking}/spoor-plan.json`,
    needs: 'tracking.read',
    summary: 'The plan in force as a file',
    params: sourceParams,
    query: v.object({ version: v.optional(IntParam) }),
  }),
  readPlanFile: route({
    method: 'POST',
    path: `${tracking}/plan-file`,
    needs: 'tracking.edit',
    summary: 'What a plan file would change, as edits to be staged',
    params: sourceParams,
    body: v.strictObject({ file: PlanFile }),
    response: DryRun,
  }),
  readCoverage: route({
    method: 'GET',
    path: '/tracking/types/:typeId/coverage',
    needs: 'tracking.read',
    summary: 'The spells in which each field of a type was tracked',
    params: v.object({ typeId: IntParam }),
    response: TypeCoverage,
  }),
  readBlindSpots: route({
    method: 'GET',
    path: `${tracking}/blind-spots`,
    needs: 'tracking.read',
    summary: 'What changes in the source without reaching the ledger, worst first',
    params: sourceParams,
    response: v.object({ spots: v.array(BlindSpot) }),
  }),
  proveRecording: route({
    method: 'POST',
    path: `${tracking}/proof`,
    needs: 'tracking.edit',
    summary: 'Try every tracked field in transactions that are rolled back',
    params: sourceParams,
    response: Proof,
  }),
  readProof: route({
    method: 'GET',
    path: '/tracking/proofs/:proofId',
    needs: 'tracking.read',
    summary: 'One proof, field by field',
    params: v.object({ proofId: IntParam }),
    response: Proof,
  }),
}
