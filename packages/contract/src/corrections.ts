import * as v from 'valibot'
import { Captured, IdNumber, Instant, IntParam, Moment, Reason, RecordKey, SaveId } from './common.ts'
import { route } from './route.ts'

export const Choice = v.picklist(['keep', 'overwrite', 'merge', 'leave'])
/** A value is set, or its record is made anew or removed. */
export const Act = v.picklist(['set', 'recreate', 'remove'])
/** What `follows` is worked out by the source from values that are set back: foretold, never written. */
export const ItemState = v.picklist(['clear', 'already-so', 'changed-since', 'follows', 'blocked'])

/** Why a value counts as not written that was written: what the source made of it. */
export const overriddenWords = 'written, but the source’s own rules put another value in its place'

export const CorrectionItem = v.object({
  id: v.number(),
  typeId: v.number(),
  key: v.string(),
  label: v.string(),
  fieldId: v.number(),
  saveId: SaveId,
  found: Captured,
  now: Captured,
  target: Captured,
  /** Of a value that follows: what the source made of it in the trial, when it made anything of it. */
  foretold: v.nullable(v.object({ value: Captured })),
  act: Act,
  state: ItemState,
  /** Why a blocked value cannot be written. */
  why: v.nullable(v.string()),
  choice: Choice,
  /** Of one that changed since: whether what others made of it can stay while the rest is set back, and what that comes to. */
  mayMerge: v.boolean(),
  merged: Captured,
  written: v.boolean(),
  /** Its values are kept and not shown here; they can be revealed in the save. */
  masked: v.boolean(),
  /** One of its values is longer than is shown here. */
  cut: v.boolean(),
})
export type CorrectionItem = v.InferOutput<typeof CorrectionItem>

/** A change that writing caused in a tracked field beyond the items themselves, as the trial showed it. */
export const Effect = v.object({
  typeId: v.number(),
  key: v.string(),
  label: v.string(),
  fieldId: v.number(),
  before: Captured,
  after: Captured,
})
export type Effect = v.InferOutput<typeof Effect>

/** A record whose values the source refused, each with its own words: the rule that says no, and its detail. */
export const Refusal = v.object({ typeId: v.number(), key: v.string(), label: v.string(), words: v.string() })
export type Refusal = v.InferOutput<typeof Refusal>

/** Values of a correction that have in common what becomes of them, and why. */
export const CorrectionGroup = v.object({
  id: v.string(),
  act: Act,
  state: ItemState,
  /** Why they cannot be written. */
  why: v.nullable(v.string()),
  /** Of values that changed since: who changed them last and for which reason, as far as the trail knows. */
  since: v.nullable(v.object({ by: v.string(), reason: v.nullable(v.string()) })),
  fieldIds: v.array(v.number()),
  values: v.number(),
  records: v.number(),
  /** How many of them are chosen to be set back, and how many were written. */
  chosen: v.number(),
  written: v.number(),
  /** How many of them can be merged, and how many are to be. */
  mergeable: v.number(),
  merges: v.number(),
})
export type CorrectionGroup = v.InferOutput<typeof CorrectionGroup>

/** What the trail saw of what was written. */
export const Verdict = v.object({
  /** Values that the trail saw become what was asked for. */
  asAsked: v.number(),
  /** Values that it did not: the source made something else of them, or their field was not tracked. The first hundred. */
  otherwise: v.array(
    v.object({
      typeId: v.number(),
      key: v.string(),
      label: v.string(),
      fieldId: v.number(),
      seen: v.nullable(v.object({ value: Captured })),
      target: Captured,
    }),
  ),
  otherwiseCount: v.number(),
})

export const Trial = v.object({
  at: Instant,
  /** Null when the source accepted every write; otherwise its own words. */
  refusal: v.nullable(v.string()),
  /** The records it refused when each was tried by itself, the first two hundred. */
  refused: v.optional(v.array(Refusal), []),
  /** The first two hundred. */
  effects: v.array(Effect),
  /** How many there are. */
  effectCount: v.number(),
})

export const CorrectionHead = v.object({
  id: v.number(),
  /** While it is being applied, and until it is known whether it was, nothing about it can be changed. */
  state: v.picklist(['draft', 'applying', 'applied']),
  draftedBy: v.string(),
  draftedAt: Instant,
  appliedBy: v.nullable(v.string()),
  appliedAt: v.nullable(Instant),
  reason: v.nullable(v.string()),
  itemCount: v.number(),
  recordCount: v.number(),
})
export type CorrectionHead = v.InferOutput<typeof CorrectionHead>

export const Correction = v.object({
  ...CorrectionHead.entries,
  /** What was asked to be set back, where that was not picked change by change. */
  asked: v.nullable(v.string()),
  /** Saves in what was asked that made or deleted their record, and of which not all was asked for. */
  leftOut: v.number(),
  /** Records that come back along with those asked for: what they need to be there, and what went with them. */
  along: v.number(),
  groups: v.array(CorrectionGroup),
  draftedById: v.number(),
  /** Of changes that are made again: the sources on which they were made and are to be made. */
  repeats: v.nullable(v.object({ from: v.string(), on: v.string() })),
  /** Since it was given to whoever owns the source, as a file: how many of the values to be written the trail saw become so. */
  givenOut: v.nullable(v.object({ by: v.string(), at: Instant, done: v.number(), open: v.number() })),
  /** A rehearsal or an application that goes on: `done` of `total` values in this step of it. */
  work: v.nullable(
    v.object({
      jobId: v.number(),
      /** Who asked for it, and may stop it whatever else they may do. */
      askedById: v.nullable(v.number()),
      doing: v.nullable(v.string()),
      done: v.number(),
      total: v.nullable(v.number()),
    }),
  ),
  /** Why the last one came to nothing, where no other has come about since. */
  cameToNothing: v.nullable(v.string()),
  /** Why somebody other than who drafted it has to apply it; null where nobody has to. */
  takesTwo: v.nullable(v.string()),
  /** Waiting for a second person since, with the reason. */
  proposed: v.nullable(v.object({ by: v.string(), byId: v.number(), at: Instant, reason: v.string() })),
  /** What a second person said who did not apply it. */
  sentBack: v.nullable(v.object({ by: v.string(), words: v.string() })),
  /** What applying it would write. */
  writes: v.object({ values: v.number(), records: v.number(), recreates: v.number(), removes: v.number() }),
  trial: v.nullable(Trial),
  /** Whether it was, or is being, applied record by record, and what that left: values of how many records, and the draft they are in now. */
  piecemeal: v.nullable(v.object({ restId: v.nullable(v.number()), values: v.number(), records: v.number() })),
  /** Of a draft of what another left unwritten, the number of that. */
  restOf: v.nullable(v.number()),
  /** One save of each transaction that carried it out, once collected. */
  savedIn: v.array(SaveId),
  /** The saves that carried it out, once collected: the first of them, and how many there are. */
  savedAs: v.array(SaveId),
  savedCount: v.number(),
  /** Once it was applied and all that it wrote was collected. */
  verdict: v.nullable(Verdict),
})
export type Correction = v.InferOutput<typeof Correction>

const params = v.object({ correctionId: IntParam })
const Choices = v.pipe(v.array(v.strictObject({ itemId: IdNumber, choice: Choice })), v.maxLength(50_000))
const GroupId = v.pipe(v.string(), v.regex(/^[0-9a-f]{32}$/, 'Give the name of a group of the correction.'))

/** Changes picked one by one, all that a scope means, values as they were at a moment, or as a baseline has them; or again elsewhere. */
const DraftWish = v.union([
  v.strictObject({
    changes: v.pipe(
      v.array(v.strictObject({ saveId: SaveId, fieldId: v.optional(IdNumber) })),
      v.minLength(1),
      v.maxLength(10_000),
    ),
  }),
  v.strictObject({ scope: v.pipe(v.string(), v.minLength(1), v.maxLength(20_000)) }),
  v.strictObject({
    past: v.strictObject({
      typeId: IdNumber,
      at: Moment,
      fieldIds: v.pipe(v.array(IdNumber), v.minLength(1), v.maxLength(1600)),
      /** Every field, whatever is listed, and the records themselves: what was made since goes, what was deleted comes back. */
      whole: v.optional(v.boolean(), false),
      /** All records of the type, unless said. */
      keys: v.optional(v.pipe(v.array(RecordKey), v.minLength(1), v.maxLength(1000))),
    }),
  }),
  v.strictObject({ baselineId: IdNumber }),
  /** What a scope means made again on another source of the same shape. */
  v.strictObject({
    again: v.strictObject({ scope: v.pipe(v.string(), v.minLength(1), v.maxLength(20_000)), sourceId: IdNumber }),
  }),
])

export const correctionRoutes = {
  listCorrections: route({
    method: 'GET',
    path: '/corrections',
    needs: 'corrections.read',
    summary: 'Corrections, newest first',
    response: v.object({ corrections: v.array(CorrectionHead) }),
  }),
  listCorrectionSources: route({
    method: 'GET',
    path: '/correction-sources',
    needs: 'corrections.draft',
    summary: 'The sources on which changes could be made again',
    response: v.object({ sources: v.array(v.object({ id: v.number(), name: v.string() })) }),
  }),
  draftCorrection: route({
    method: 'POST',
    path: '/corrections',
    needs: 'corrections.draft',
    summary:
      'Draft a correction that sets changes, everything in a scope, or values to what they were at a moment, and rehearse it',
    body: DraftWish,
    response: Correction,
  }),
  readCorrection: route({
    method: 'GET',
    path: '/corrections/:correctionId',
    needs: 'corrections.read',
    summary: 'One correction with what becomes of its values, in groups',
    params,
    response: Correction,
  }),
  listCorrectionItems: route({
    method: 'GET',
    path: '/corrections/:correctionId/items',
    needs: 'corrections.read',
    summary: 'Values of a correction, of one group or of all',
    params,
    query: v.object({ group: v.optional(GroupId), after: v.optional(IntParam) }),
    response: v.object({ items: v.array(CorrectionItem), next: v.nullable(v.number()) }),
  }),
  exportCorrectionScript: route({
    method: 'GET',
    path: '/corrections/:correctionId/script.sql',
    needs: 'corrections.draft',
    summary: 'What a correction would write as one script for whoever owns the source: guarded, all or nothing',
    params,
  }),
  exportCorrectionList: route({
    method: 'GET',
    path: '/corrections/:correctionId/values.csv',
    needs: 'corrections.draft',
    summary: 'What a correction would write as a list: a line a value',
    params,
  }),
  rehearseCorrection: route({
    method: 'POST',
    path: '/corrections/:correctionId/rehearsal',
    needs: 'corrections.draft',
    summary: 'Compare with the source as it is now and try the writes in a transaction that is rolled back',
    params,
    body: v.strictObject({
      choices: Choices,
      /** For all values of a group; a value's own choice comes before its group's. */
      groups: v.optional(v.pipe(v.array(v.strictObject({ group: GroupId, choice: Choice })), v.maxLength(1000)), []),
      /** Leave alone the records that the source refused in the last rehearsal. */
      leaveRefused: v.optional(v.boolean(), false),
    }),
    response: Correction,
  }),
  proposeCorrection: route({
    method: 'POST',
    path: '/corrections/:correctionId/proposal',
    needs: 'corrections.draft',
    summary: 'Ask a second person to apply a draft, with the reason that it is to be applied for',
    params,
    body: v.strictObject({ reason: Reason }),
    response: Correction,
  }),
  sendCorrectionBack: route({
    method: 'POST',
    path: '/corrections/:correctionId/return',
    needs: 'corrections.apply',
    summary: 'Give a proposed correction back to who drafted it, with words; it stays as it is',
    params,
    body: v.strictObject({ words: Reason }),
    response: Correction,
  }),
  applyCorrection: route({
    method: 'POST',
    path: '/corrections/:correctionId/application',
    needs: 'corrections.apply',
    summary: 'Write the values, all or none, or record by record, with what could not be written drafted anew',
    params,
    body: v.strictObject({ reason: Reason, piecemeal: v.optional(v.boolean(), false) }),
    response: Correction,
  }),
}
