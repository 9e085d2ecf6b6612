import * as v from 'valibot'
import { Instant, IntParam } from './common.ts'
import { Reference, Save } from './changes.ts'
import { route } from './route.ts'

/** Everything the trail has of one record, whatever keys it had. */
export const RecordStory = v.object({
  record: v.object({
    typeId: v.number(),
    /** The key it has now, or had last. */
    key: v.string(),
    label: v.string(),
    deleted: v.boolean(),
    /** Keys it had before, the latest first. */
    formerKeys: v.array(v.string()),
  }),
  /** In the order of the ledger, the oldest first. */
  saves: v.array(Save),
  /** The spells in which each field was tracked. Empty where somebody sees a part of the saves only. */
  coverage: v.array(
    v.object({
      fieldId: v.number(),
      from: Instant,
      to: v.nullable(Instant),
      because: v.nullable(v.string()),
    }),
  ),
  /** Whether there are older saves than are told. */
  more: v.boolean(),
  /** Whether the reader's reach leaves saves of it out, so that what it held cannot be reckoned. */
  partial: v.boolean(),
  references: v.array(Reference),
})
export type RecordStory = v.InferOutput<typeof RecordStory>

export const recordRoutes = {
  readStoryOfRecord: route({
    method: 'GET',
    path: '/records/story',
    needs: 'changes.read',
    summary: 'Every save of one record, through all keys it had, with the spells in which its fields were tracked',
    query: v.object({ typeId: IntParam, key: v.pipe(v.string(), v.minLength(1), v.maxLength(10_000)) }),
    response: RecordStory,
  }),
}
