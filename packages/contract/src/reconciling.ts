import * as v from 'valibot'
import { Captured, IdNumber, Instant, IntParam, Reason } from './common.ts'
import { route } from './route.ts'

/** Something that a record holds and that no save explains. */
export const Difference = v.object({
  id: v.number(),
  typeId: v.number(),
  key: v.string(),
  label: v.string(),
  /** Null of a whole record. */
  fieldId: v.nullable(v.number()),
  /** `gone`: the source does not have it any more; `unheard`: the source has it and the trail knows nothing of it. */
  kind: v.picklist(['value', 'gone', 'unheard']),
  /** What the trail says, and what the source held; not told of a masked field. */
  trail: Captured,
  source: Captured,
  masked: v.boolean(),
  /** Whether only the beginnings are told. */
  cut: v.boolean(),
  /** It must have come about after this; null where nothing says so. */
  after: v.nullable(Instant),
  /** And by then: when it was seen. */
  seenAt: Instant,
  /** When a later look found that the two agree again. */
  overAt: v.nullable(Instant),
  settled: v.nullable(v.object({ by: v.string(), at: Instant, why: v.string(), takenIn: v.boolean() })),
})
export type Difference = v.InferOutput<typeof Difference>

export const ReconciledType = v.object({
  typeId: v.number(),
  /** The last look at all its records; null where there was none. */
  last: v.nullable(
    v.object({
      beganAt: Instant,
      endedAt: Instant,
      records: v.number(),
      differing: v.number(),
      /** Records that went on changing, so that nothing could be said of them. */
      moving: v.number(),
    }),
  ),
  /** Differences that nobody settled. */
  open: v.number(),
})
export type ReconciledType = v.InferOutput<typeof ReconciledType>

const EveryHours = v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(8760)))

export const reconcilingRoutes = {
  readReconciling: route({
    method: 'GET',
    path: '/reconciling',
    needs: 'custody.read',
    summary: 'When records were last held against their trail, and when they will be next',
    response: v.object({
      /** Null: only when somebody asks. */
      everyHours: v.nullable(v.number()),
      nextAt: v.nullable(Instant),
      types: v.array(ReconciledType),
      /** The job that goes on. */
      jobId: v.nullable(v.number()),
    }),
  }),
  reconcile: route({
    method: 'POST',
    path: '/reconciling',
    needs: 'custody.check',
    summary: 'Hold what records hold against their trail now: of some types, or of all that are tracked',
    body: v.strictObject({
      typeIds: v.optional(v.pipe(v.array(IdNumber), v.minLength(1), v.maxLength(1000))),
    }),
    response: v.object({ jobId: v.number() }),
  }),
  setReconciling: route({
    method: 'PUT',
    path: '/reconciling/pace',
    needs: 'custody.check',
    summary: 'How often all records are held against their trail without being asked',
    body: v.strictObject({ everyHours: EveryHours }),
    response: v.object({ everyHours: v.nullable(v.number()), nextAt: v.nullable(Instant) }),
  }),
  listDifferences: route({
    method: 'GET',
    path: '/reconciling/differences',
    needs: 'custody.read',
    summary: 'What records hold and no save explains, the latest first; or what was settled',
    query: v.object({
      settled: v.optional(v.picklist(['0', '1']), '0'),
      typeId: v.optional(IntParam),
      before: v.optional(IntParam),
    }),
    response: v.object({ differences: v.array(Difference), next: v.nullable(v.number()), count: v.number() }),
  }),
  settleDifference: route({
    method: 'PUT',
    path: '/reconciling/differences/:differenceId/settled',
    needs: 'custody.check',
    summary: 'Say what was found out about a difference; its value may be taken in as found',
    params: v.object({ differenceId: IntParam }),
    body: v.strictObject({ why: Reason, takeIn: v.boolean() }),
    response: Difference,
  }),
}
