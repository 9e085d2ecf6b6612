import * as v from 'valibot'
import { Captured, Instant, IntParam, Reason, SaveId, IdNumber } from './common.ts'
import { route } from './route.ts'

export const Choice = v.picklist(['keep', 'overwrite'])
/** What `follows` is worked out by the source from values that are set back: foretold, never written. */
export const ItemState = v.picklist(['clear', 'already-so', 'changed-since', 'follows', 'blocked'])

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
  state: ItemState,
  /** Why a blocked value cannot be written. */
  why: v.nullable(v.string()),
  choice: Choice,
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
  items: v.array(CorrectionItem),
  trial: v.nullable(Trial),
  /** The saves that carried it out, once collected. */
  savedAs: v.array(SaveId),
})
export type Correction = v.InferOutput<typeof Correction>

const params = v.object({ correctionId: IntParam })
const Choices = v.pipe(v.array(v.strictObject({ itemId: IdNumber, choice: Choice })), v.maxLength(50_000))

export const correctionRoutes = {
  listCorrections: route({
    method: 'GET',
    path: '/corrections',
    needs: 'corrections.read',
    summary: 'Corrections, newest first',
    response: v.object({ corrections: v.array(CorrectionHead) }),
  }),
  draftCorrection: route({
    method: 'POST',
    path: '/corrections',
    needs: 'corrections.draft',
    summary: 'Draft a correction that sets changes back, and rehearse it',
    body: v.strictObject({
      changes: v.pipe(
        v.array(v.strictObject({ saveId: SaveId, fieldId: v.optional(IdNumber) })),
        v.minLength(1),
        v.maxLength(10_000),
      ),
    }),
    response: Correction,
  }),
  readCorrection: route({
    method: 'GET',
    path: '/corrections/:correctionId',
    needs: 'corrections.read',
    summary: 'One correction with its items',
    params,
    response: Correction,
  }),
  rehearseCorrection: route({
    method: 'POST',
    path: '/corrections/:correctionId/rehearsal',
    needs: 'corrections.draft',
    summary: 'Compare with the source as it is now and try the writes in a transaction that is rolled back',
    params,
    body: v.strictObject({ choices: Choices }),
    response: Correction,
  }),
  applyCorrection: route({
    method: 'POST',
    path: '/corrections/:correctionId/application',
    needs: 'corrections.apply',
    summary: 'Write the values, all or none',
    params,
    body: v.strictObject({ reason: Reason }),
    response: Correction,
  }),
}
