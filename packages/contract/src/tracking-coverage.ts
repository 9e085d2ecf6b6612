import * as v from 'valibot'
import { Instant } from './common.ts'

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
