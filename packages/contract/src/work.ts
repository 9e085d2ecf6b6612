import * as v from 'valibot'
import { Instant, IntParam } from './common.ts'
import type { Permission } from './permission.ts'
import { route } from './route.ts'

/** What is done as a job, and what stopping one takes. */
export const jobKinds = {
  checking: 'custody.check',
  'noticing-trial': 'noticing.edit',
  installing: 'tracking.edit',
  taking: 'tracking.edit',
  reconciling: 'custody.check',
  baseline: 'baselines.make',
  correcting: 'corrections.draft',
  packing: 'packs.withdraw',
  reading: 'tracking.edit',
  answering: 'tracking.edit',
} as const satisfies Record<string, Permission>
export type JobKind = keyof typeof jobKinds

export const Job = v.object({
  id: v.number(),
  kind: v.picklist(Object.keys(jobKinds) as [JobKind, ...JobKind[]]),
  /** What it is, as a sentence begins: “Checking the whole ledger”. */
  words: v.string(),
  /** Null for what Spoor began by itself. */
  by: v.nullable(v.string()),
  askedAt: Instant,
  /** Null while it waits for its turn. */
  beganAt: v.nullable(Instant),
  endedAt: v.nullable(Instant),
  outcome: v.nullable(v.picklist(['done', 'stopped', 'failed'])),
  /** The step it is at. */
  doing: v.nullable(v.string()),
  done: v.number(),
  /** Null while nobody knows how much there is. */
  total: v.nullable(v.number()),
  /** What became of it; while it goes on, what it stumbled over last. */
  result: v.nullable(v.string()),
  stopping: v.boolean(),
  mayStop: v.boolean(),
})
export type Job = v.InferOutput<typeof Job>

export const workRoutes = {
  listJobs: route({
    method: 'GET',
    path: '/work',
    needs: 'work.read',
    summary: 'Long work: what is under way, then what became of the rest, newest first',
    query: v.object({ before: v.optional(IntParam) }),
    response: v.object({ jobs: v.array(Job), next: v.nullable(v.number()) }),
  }),
  stopJob: route({
    method: 'DELETE',
    path: '/work/:jobId',
    needs: 'work.read',
    summary: 'Stop something that is under way; what that leaves is said of each',
    params: v.object({ jobId: IntParam }),
    response: Job,
  }),
}
