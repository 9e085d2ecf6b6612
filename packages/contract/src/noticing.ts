import * as v from 'valibot'
import { ruleNames, type RuleName } from '@spoor/core'
import { Change } from './changes.ts'
import { GivenInstant, Instant, IntParam } from './common.ts'
import { route } from './route.ts'

const Rule = v.picklist(ruleNames)
const Reason = v.object({
  rule: Rule,
  fieldId: v.nullable(v.number()),
  /** What was reckoned and what it was compared with; a masked field's telling ones are left out. */
  figures: v.record(v.string(), v.number()),
})

/** What stands out, told once, with every reason for it. */
export const StoryShown = v.object({
  id: v.number(),
  reasons: v.array(Reason),
  saves: v.number(),
  records: v.number(),
  from: Instant,
  to: Instant,
  actors: v.array(v.number()),
  types: v.array(v.number()),
  /** The record of its first save. */
  about: v.nullable(v.object({ typeId: v.number(), key: v.string(), label: v.string() })),
  examples: v.array(v.object({ saveId: v.string(), at: Instant, label: v.string(), change: Change })),
  settled: v.nullable(v.object({ by: v.string(), at: Instant, why: v.string() })),
})
export type StoryShown = v.InferOutput<typeof StoryShown>

const Setting = v.strictObject({ on: v.boolean(), parameters: v.record(v.string(), v.number()) })
/** The clock that the organisation works by, and what was chosen for each reason; what is absent is as it usually is. */
export const NoticingSettings = v.strictObject({
  zone: v.pipe(v.string(), v.maxLength(100)),
  rules: v.custom<Partial<Record<RuleName, v.InferOutput<typeof Setting>>>>((input) =>
    v.is(v.record(Rule, Setting), input),
  ),
})
export type NoticingSettings = v.InferOutput<typeof NoticingSettings>

export const NoticingTrial = v.object({
  settings: NoticingSettings,
  running: v.boolean(),
  /** Saves read, of how many. */
  done: v.number(),
  total: v.number(),
  trouble: v.nullable(v.string()),
  outcome: v.nullable(
    v.object({
      before: v.number(),
      after: v.number(),
      workdays: v.number(),
      gone: v.number(),
      added: v.number(),
      /** Told for other reasons, or of other saves. */
      changed: v.number(),
      goneExamples: v.array(StoryShown),
      changedExamples: v.array(StoryShown),
      addedExamples: v.array(StoryShown),
    }),
  ),
})
export type NoticingTrial = v.InferOutput<typeof NoticingTrial>

export const noticingRoutes = {
  listStories: route({
    method: 'GET',
    path: '/noticing/stories',
    needs: 'noticing.read',
    summary: 'What stands out in a spell, settled or not, the heaviest first',
    query: v.object({
      from: GivenInstant,
      until: v.optional(GivenInstant),
      settled: v.optional(v.picklist(['0', '1']), '0'),
    }),
    response: v.object({ stories: v.array(StoryShown) }),
  }),
  readStory: route({
    method: 'GET',
    path: '/noticing/stories/:storyId',
    needs: 'noticing.read',
    summary: 'One story of what stands out',
    params: v.object({ storyId: IntParam }),
    response: StoryShown,
  }),
  settleStory: route({
    method: 'PUT',
    path: '/noticing/stories/:storyId/settled',
    needs: 'changes.mark',
    summary: 'Say that a story is dealt with and why, or that it is not after all',
    params: v.object({ storyId: IntParam }),
    body: v.strictObject({ on: v.boolean(), why: v.optional(v.pipe(v.string(), v.trim(), v.maxLength(2000)), '') }),
    response: StoryShown,
  }),
  readNoticing: route({
    method: 'GET',
    path: '/noticing/settings',
    needs: 'noticing.read',
    summary: 'How Spoor notices, and settings being tried',
    response: v.object({
      settings: NoticingSettings,
      changedBy: v.nullable(v.string()),
      changedAt: v.nullable(Instant),
      trial: v.nullable(NoticingTrial),
    }),
  }),
  tryNoticing: route({
    method: 'POST',
    path: '/noticing/trial',
    needs: 'noticing.edit',
    summary: 'Try settings on everything in the ledger; nothing changes until they are kept',
    body: NoticingSettings,
    response: v.object({ trying: v.literal(true) }),
  }),
  stopNoticingTrial: route({
    method: 'DELETE',
    path: '/noticing/trial',
    needs: 'noticing.edit',
    summary: 'Stop trying settings',
    response: v.object({ stopping: v.literal(true) }),
  }),
  keepNoticing: route({
    method: 'PUT',
    path: '/noticing/settings',
    needs: 'noticing.edit',
    summary: 'Put the settings in force that were tried to the end',
    response: v.object({ kept: v.literal(true) }),
  }),
}
