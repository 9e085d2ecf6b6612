import * as v from 'valibot'
import { GivenInstant, Instant, Kind, GivenZone } from './common.ts'
import { StoryShown } from './noticing.ts'
import { route } from './route.ts'

/** What somebody is told of a spell: figures for the sentences, what stands out, and what could not be seen. */
export const Today = v.object({
  /** The spell, both to the minute. */
  from: Instant,
  until: Instant,
  /** Why it begins there. */
  since: v.picklist(['last visit', 'first visit', 'chosen']),
  /** The scope of the spell, as a link's parameters; every figure is what it counts. */
  scope: v.string(),
  saves: v.number(),
  changes: v.number(),
  records: v.nullable(v.number()),
  kinds: v.array(v.object({ kind: Kind, actors: v.number(), saves: v.number() })),
  run: v.nullable(v.object({ id: v.number(), typeId: v.number(), saves: v.number() })),
  type: v.nullable(v.object({ id: v.number(), saves: v.number() })),
  usual: v.nullable(v.number()),
  /** Null for whoever is not told what stands out. */
  stories: v.nullable(v.array(StoryShown)),
  /** Saves that noticing has not read yet. */
  noticingBehind: v.number(),
  /** The last fourteen days, oldest first. */
  strip: v.array(v.object({ day: v.string(), saves: v.record(v.string(), v.number()) })),
  gaps: v.array(
    v.object({
      typeId: v.number(),
      fieldId: v.number(),
      from: Instant,
      to: v.nullable(Instant),
      because: v.nullable(v.string()),
    }),
  ),
})
export type Today = v.InferOutput<typeof Today>

export const todayRoutes = {
  readToday: route({
    method: 'GET',
    path: '/today',
    needs: 'changes.read',
    summary: 'What happened since the person last looked, or in a chosen spell',
    query: v.object({
      from: v.optional(GivenInstant),
      until: v.optional(GivenInstant),
      zone: v.optional(GivenZone, 'UTC'),
    }),
    response: Today,
  }),
}
