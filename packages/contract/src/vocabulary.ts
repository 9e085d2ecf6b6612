import * as v from 'valibot'
import { IntParam, Kind } from './common.ts'
import { route } from './route.ts'

/** The names a scope is written with: what is tracked or was, and who was ever seen. */
export const Vocabulary = v.object({
  types: v.array(
    v.object({
      id: v.number(),
      name: v.string(),
      plural: v.string(),
      area: v.string(),
      parentTypeId: v.nullable(v.number()),
      /** The field whose day says when a record of it takes effect. */
      effectiveFieldId: v.nullable(v.number()),
    }),
  ),
  fields: v.array(
    v.object({
      id: v.number(),
      typeId: v.number(),
      name: v.string(),
      baseType: v.string(),
      tracked: v.boolean(),
      masked: v.boolean(),
      /** Whether a fingerprint is or was kept of it instead of its values. */
      fingerprint: v.boolean(),
      sensitive: v.boolean(),
      /** What is expected of a save that changes it. */
      reason: v.picklist(['never', 'asked', 'required']),
      derivedFrom: v.array(v.number()),
      refersTo: v.nullable(v.number()),
    }),
  ),
  actors: v.array(v.object({ id: v.number(), name: v.string(), kind: Kind })),
  channels: v.array(v.string()),
  /** Units of the staff list that these actors belong to. */
  units: v.array(v.string()),
})
export type Vocabulary = v.InferOutput<typeof Vocabulary>

export const RecordHits = v.object({
  records: v.array(
    v.object({
      typeId: v.number(),
      key: v.string(),
      label: v.string(),
      deleted: v.boolean(),
      /** What of it was met, where that is not its name or key: a value it holds or held, or a key that it had. */
      by: v.nullable(
        v.union([
          v.object({ fieldId: v.number(), value: v.string(), now: v.boolean() }),
          v.object({ formerKey: v.string() }),
        ]),
      ),
    }),
  ),
})
export type RecordHits = v.InferOutput<typeof RecordHits>

export const vocabularyRoutes = {
  readVocabulary: route({
    method: 'GET',
    path: '/vocabulary',
    needs: 'changes.read',
    summary: 'Record types, fields and actors by name',
    response: Vocabulary,
  }),
  findRecords: route({
    method: 'GET',
    path: '/records/find',
    needs: 'changes.read',
    summary: 'Records whose label or key contains some words, or which hold or held exactly that',
    query: v.object({
      words: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(200)),
      typeId: v.optional(IntParam),
    }),
    response: RecordHits,
  }),
}
