import * as v from 'valibot'
import { Captured, IdNumber, Instant, IntParam, Moment, Reason } from './common.ts'
import { StandingCondition } from './records.ts'
import { route } from './route.ts'

/** What somebody says by signing. */
export const meanings = ['checked', 'approved', 'seen'] as const

export const BaselineSignature = v.object({
  by: v.string(),
  meaning: v.picklist(meanings),
  note: v.nullable(v.string()),
  at: Instant,
})

/** A named moment of a named set of records. */
export const Baseline = v.object({
  id: v.number(),
  name: v.string(),
  typeId: v.number(),
  at: Instant,
  fieldIds: v.array(v.number()),
  /** Which records are meant, in words. */
  meant: v.string(),
  whole: v.boolean(),
  madeBy: v.string(),
  madeAt: Instant,
  why: v.string(),
  /** `going` while its records are put down. */
  state: v.picklist(['going', 'kept']),
  records: v.number(),
  digest: v.nullable(v.string()),
  jobId: v.nullable(v.number()),
  signatures: v.array(BaselineSignature),
})
export type Baseline = v.InferOutput<typeof Baseline>

/** A value of a baseline that is another later. */
export const BaselineMove = v.object({
  key: v.string(),
  label: v.string(),
  fieldId: v.number(),
  then: Captured,
  later: Captured,
  hidden: v.nullable(v.picklist(['erased', 'masked'])),
  cut: v.boolean(),
  /** How many changes lie between, and the last of them. */
  changes: v.number(),
  lastSaveId: v.string(),
  lastAt: Instant,
  lastBy: v.string(),
})

export const BaselineComparison = v.object({
  /** Up to when: now, unless somebody asks for another moment. */
  until: Instant,
  records: v.number(),
  /** Records of the baseline of which a value is another, were deleted, or whose key another came to. */
  moved: v.number(),
  deleted: v.number(),
  /** Of a baseline of all records: how many were made since. */
  made: v.nullable(v.number()),
  values: v.number(),
  moves: v.array(BaselineMove),
  /** Records that were deleted, the first two hundred. */
  gone: v.array(v.object({ key: v.string(), label: v.string(), at: Instant })),
  /** The scope of what came between, for Changes. */
  scope: v.string(),
  next: v.nullable(v.string()),
})
export type BaselineComparison = v.InferOutput<typeof BaselineComparison>

const params = v.object({ baselineId: IntParam })
const Name = v.pipe(v.string(), v.trim(), v.minLength(3, 'Give a name of at least three letters.'), v.maxLength(120))

export const baselineRoutes = {
  listBaselines: route({
    method: 'GET',
    path: '/baselines',
    needs: 'baselines.read',
    summary: 'Named moments of named sets of records, the latest first',
    response: v.object({ baselines: v.array(Baseline) }),
  }),
  makeBaseline: route({
    method: 'POST',
    path: '/baselines',
    needs: 'baselines.make',
    summary: 'Name a moment of some records: all of a type, or those that met conditions then',
    body: v.strictObject({
      name: Name,
      typeId: IdNumber,
      /** Now, unless said. */
      at: v.optional(Moment),
      fieldIds: v.pipe(v.array(IdNumber), v.minLength(1), v.maxLength(1600)),
      words: v.optional(v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(200))),
      where: v.optional(v.pipe(v.array(StandingCondition), v.maxLength(10)), []),
      why: Reason,
    }),
    response: Baseline,
  }),
  readBaseline: route({
    method: 'GET',
    path: '/baselines/:baselineId',
    needs: 'baselines.read',
    summary: 'One baseline with who signed it off',
    params,
    response: Baseline,
  }),
  signBaseline: route({
    method: 'POST',
    path: '/baselines/:baselineId/signatures',
    needs: 'baselines.sign',
    summary: 'Sign a baseline off, with what is meant by it',
    params,
    body: v.strictObject({
      meaning: v.picklist(meanings),
      note: v.optional(v.pipe(v.string(), v.trim(), v.maxLength(2000))),
    }),
    response: Baseline,
  }),
  compareBaseline: route({
    method: 'GET',
    path: '/baselines/:baselineId/comparison',
    needs: 'baselines.read',
    summary: 'What of a baseline is another now, or was at a later moment',
    params,
    query: v.object({ until: v.optional(Moment), after: v.optional(v.pipe(v.string(), v.maxLength(20_000))) }),
    response: BaselineComparison,
  }),
  checkBaseline: route({
    method: 'POST',
    path: '/baselines/:baselineId/check',
    needs: 'baselines.make',
    summary: 'Reckon a baseline anew from the ledger and hold it against what was sealed',
    params,
    response: v.object({ jobId: v.number() }),
  }),
}
