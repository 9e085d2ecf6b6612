import { CorrectionsAbove, IdNumber, GivenDay } from './common.ts'
import { FileGuard } from './guards.ts'
import * as v from 'valibot'

/** Catalogue names are at most 63 bytes. */
const Name = v.pipe(v.string(), v.minLength(1), v.maxLength(63))
const reason = v.optional(v.picklist(['never', 'asked', 'required']), 'never')

/** A tracking plan by the source's own names: `spoor-plan.json`. What is left out is as it is when nothing is said. */
export const PlanFile = v.strictObject({
  format: v.literal('spoor-plan'),
  version: v.literal(1),
  source: v.pipe(v.string(), v.maxLength(200)),
  planVersion: v.optional(v.nullable(IdNumber), null),
  secondPerson: v.optional(v.boolean(), false),
  correctionsAbove: v.optional(v.nullable(CorrectionsAbove), null),
  types: v.pipe(
    v.array(
      v.strictObject({
        schema: Name,
        table: Name,
        reason,
        newColumns: v.optional(v.picklist(['track', 'wait']), 'wait'),
        onFailure: v.optional(v.picklist(['refuse', 'pass']), 'refuse'),
        asFound: v.optional(v.picklist(['take', 'leave']), 'take'),
        fields: v.pipe(
          v.array(
            v.strictObject({
              column: Name,
              keep: v.picklist(['values', 'fingerprint']),
              masked: v.optional(v.boolean(), false),
              sensitive: v.optional(v.boolean(), false),
              reason,
              derivedFrom: v.optional(v.array(Name), []),
              lock: v.optional(v.nullable(v.strictObject({ until: v.nullable(GivenDay) })), null),
            }),
          ),
          v.maxLength(2000),
        ),
        guards: v.optional(v.pipe(v.array(FileGuard), v.maxLength(500)), []),
      }),
    ),
    v.maxLength(20_000),
  ),
})
