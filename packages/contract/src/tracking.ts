import * as v from 'valibot'
import { Instant, IntParam, Reason } from './common.ts'
import { route } from './route.ts'

export const KeepOrOff = v.picklist(['values', 'fingerprint', 'off'])

/** Why something cannot be tracked, and the exact statement that would mend it. */
export const Obstacle = v.object({ words: v.string(), remedy: v.nullable(v.string()) })
export type Obstacle = v.InferOutput<typeof Obstacle>

export const TrackedField = v.object({
  id: v.number(),
  name: v.string(),
  column: v.string(),
  dataType: v.string(),
  comment: v.nullable(v.string()),
  partOfKey: v.boolean(),
  keep: KeepOrOff,
  trackedSince: v.nullable(Instant),
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
  fields: v.array(TrackedField),
})
export type TrackedType = v.InferOutput<typeof TrackedType>

export const FieldEdit = v.strictObject({ typeId: v.number(), fieldId: v.number(), keep: KeepOrOff })
export const RuleEdit = v.strictObject({
  typeId: v.number(),
  reason: v.optional(v.picklist(['never', 'asked', 'required'])),
  newColumns: v.optional(v.picklist(['track', 'wait'])),
})
export const PlanEdit = v.union([FieldEdit, RuleEdit])

export const Draft = v.object({
  /** Rises with every edit; an edit names the revision it was made on. */
  revision: v.number(),
  edits: v.array(PlanEdit),
  by: v.nullable(v.string()),
  at: v.nullable(Instant),
})
export type Draft = v.InferOutput<typeof Draft>

export const SourceMap = v.object({
  id: v.number(),
  name: v.string(),
  /** What keeps Spoor from working with the source at this moment. */
  obstacle: v.nullable(Obstacle),
  planVersion: v.number(),
  inForceSince: v.nullable(Instant),
  types: v.array(TrackedType),
  draft: Draft,
})
export type SourceMap = v.InferOutput<typeof SourceMap>

const sourceParams = v.object({ sourceId: IntParam })

export const trackingRoutes = {
  readTracking: route({
    method: 'GET',
    path: '/tracking',
    needs: 'tracking.read',
    summary: 'Every source with its record types and fields, how each is kept, and the draft',
    response: v.object({ sources: v.array(SourceMap) }),
  }),
  stageEdits: route({
    method: 'PUT',
    path: '/tracking/sources/:sourceId/draft',
    needs: 'tracking.edit',
    summary: 'Replace the draft of a source',
    params: sourceParams,
    body: v.strictObject({ revision: v.number(), edits: v.pipe(v.array(PlanEdit), v.maxLength(50_000)) }),
    response: Draft,
  }),
  previewDraft: route({
    method: 'GET',
    path: '/tracking/sources/:sourceId/draft/sql',
    needs: 'tracking.read',
    summary: 'The SQL that putting the draft in force would run in the source',
    params: sourceParams,
    response: v.object({ sql: v.string() }),
  }),
  putInForce: route({
    method: 'POST',
    path: '/tracking/sources/:sourceId/plan',
    needs: 'tracking.edit',
    summary: 'Put the draft in force',
    params: sourceParams,
    body: v.strictObject({ revision: v.number(), reason: Reason }),
    response: v.object({ planVersion: v.number() }),
  }),
}
