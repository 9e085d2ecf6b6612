import * as v from 'valibot'
import { CorrectionsAbove, Instant, GivenDay } from './common.ts'
import { Guard } from './guards.ts'

export const KeepOrOff = v.picklist(['values', 'fingerprint', 'off'])
const ReasonRule = v.picklist(['never', 'asked', 'required'])
const NewColumns = v.picklist(['track', 'wait'])
export const FailureRule = v.picklist(['refuse', 'pass'])
const FoundRule = v.picklist(['take', 'leave'])
export const Words = v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(200))
export const Id = v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(2_147_483_647))

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
  /** The address of a record's own page in the business application. */
  pagePattern: v.nullable(v.string()),
  /** Parents it could have, by foreign keys that may not be empty. */
  possibleParents: v.array(v.object({ typeId: v.number(), fieldIds: v.array(v.number()) })),
  /** Saves a day over the last 28 days, or since it is tracked when that is less; null when not tracked. */
  savesPerDay: v.nullable(v.number()),
  /** Rows a day that were written and made no save, at most; null when not known yet. */
  unseenPerDay: v.nullable(v.number()),
  fields: v.array(TrackedField),
  /** What is refused by the plan in force. */
  guards: v.array(v.object({ id: v.number(), guard: Guard })),
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
export const PlanRuleEdit = v.strictObject({
  secondPerson: v.boolean(),
  correctionsAbove: v.optional(v.nullable(CorrectionsAbove)),
})
export const GuardEdit = v.strictObject({ typeId: Id, guardId: Id, guard: v.nullable(Guard) })
export const PlanEdit = v.union([PlanRuleEdit, FieldEdit, GuardEdit, RuleEdit])

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
