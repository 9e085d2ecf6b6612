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
  actors: v.array(v.object({ id: v.number(), name: v.string(), kind: Kind, unit: v.nullable(v.string()) })),
  channels: v.array(v.string()),
  /** Units of the staff list that these actors belong to. */
  units: v.array(v.string()),
  /** What records are called that values of reference fields point to, by the type of these records, where they are few. */
  called: v.array(v.object({ typeId: v.number(), value: v.string(), label: v.string() })),
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

export const HeldValues = v.object({
  /** By how many records hold them now, most first. */
  values: v.array(v.object({ value: v.nullable(v.string()), label: v.nullable(v.string()), records: v.number() })),
  /** Whether it holds more than are told. */
  more: v.boolean(),
})
export type HeldValues = v.InferOutput<typeof HeldValues>

export const vocabularyRoutes = {
  readHeldValues: route({
    method: 'GET',
    path: '/fields/:fieldId/held',
    needs: 'changes.read',
    summary: 'The values that a field of all records holds now, for whoever sees all of it',
    params: v.object({ fieldId: IntParam }),
    response: HeldValues,
  }),
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
