import { isDecimal, isZone } from '@spoor/core'
import * as v from 'valibot'
import { Instant, IntParam, KeptText, Reason } from './common.ts'
import { route } from './route.ts'

const Id = v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(2_147_483_647))
const Text = v.pipe(KeptText, v.maxLength(500))
const Values = v.pipe(v.array(v.nullable(Text)), v.minLength(1), v.maxLength(100))
const Decimal = v.pipe(
  v.string(),
  v.check((text) => isDecimal(text), 'A number is written like 1250 or -0.5.'),
)
const Names = v.pipe(v.array(v.pipe(Text, v.minLength(1))), v.maxLength(100))
const Clock = v.pipe(v.string(), v.regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'A time is written like 06:00.'))

const GuardTest = v.variant('test', [
  v.strictObject({ test: v.picklist(['any', 'emptied', 'shrinks', 'past', 'future']) }),
  v.strictObject({ test: v.picklist(['from', 'to', 'to-other']), values: Values }),
  v.strictObject({ test: v.literal('outside'), least: v.nullable(Decimal), most: v.nullable(Decimal) }),
  v.strictObject({ test: v.picklist(['rises', 'falls']), by: Decimal, share: v.boolean() }),
])

const guardBase = {
  name: v.pipe(KeptText, v.trim(), v.minLength(1, 'Give the guard a name.'), v.maxLength(100)),
  words: v.pipe(KeptText, v.trim(), v.minLength(1, 'Say what whoever is refused is to read.'), v.maxLength(500)),
  mode: v.picklist(['refuse', 'warn']),
  acts: v.pipe(v.array(v.picklist(['create', 'change', 'delete'])), v.minLength(1, 'Say what is refused.')),
  test: GuardTest,
  by: v.nullable(v.strictObject({ actors: Names, kinds: Names, channels: Names, logins: Names, others: v.boolean() })),
  times: v.nullable(
    v.strictObject({
      days: v.pipe(v.array(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(7))), v.minLength(1)),
      from: Clock,
      to: Clock,
      outside: v.boolean(),
    }),
  ),
  withoutReason: v.boolean(),
  above: v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(1_000_000_000))),
  zone: v.pipe(v.string(), v.check(isZone, 'That is no time zone.')),
}

/** What is refused in the source, as core has it. */
export const Guard = v.strictObject({
  ...guardBase,
  fieldId: v.nullable(Id),
  held: v.nullable(v.strictObject({ fieldId: Id, values: Values, other: v.boolean() })),
})
export type GuardBody = v.InferOutput<typeof Guard>

const Column = v.pipe(v.string(), v.minLength(1), v.maxLength(63))
/** The same in a plan file, where fields are named by their columns. */
export const FileGuard = v.strictObject({
  number: Id,
  ...guardBase,
  column: v.nullable(Column),
  held: v.nullable(v.strictObject({ column: Column, values: Values, other: v.boolean() })),
})

const GuardOpening = v.object({
  id: v.number(),
  actor: v.string(),
  by: v.string(),
  reason: v.string(),
  from: Instant,
  until: Instant,
  /** Ended before its time. */
  closedAt: v.nullable(Instant),
  closedBy: v.nullable(v.string()),
})
export type GuardOpening = v.InferOutput<typeof GuardOpening>

export const GuardLine = v.object({
  id: v.number(),
  sourceId: v.number(),
  source: v.string(),
  typeId: v.number(),
  plural: v.string(),
  guard: Guard,
  /** "Refuse changes of unit price of order lines …" */
  sentence: v.string(),
  /** Why it cannot be asked as the source is now; null where it can. */
  trouble: v.nullable(v.string()),
  /** In force, or only in the draft; and whether the draft would change or take it away. */
  standing: v.picklist(['in force', 'draft', 'changed in the draft', 'taken away by the draft']),
  /** How often it refused, as the source counted; and of how many of those somebody told. */
  refused: v.number(),
  told: v.number(),
  /** Whether the count may be too high, since the source was stopped hard. */
  uncertain: v.boolean(),
  warned: v.number(),
  passed: v.number(),
  lastAt: v.nullable(Instant),
  /** Moments of a year, one a day. */
  strip: v.array(Instant),
  openings: v.array(GuardOpening),
})
export type GuardLine = v.InferOutput<typeof GuardLine>

export const GuardMet = v.object({
  id: v.string(),
  how: v.picklist(['refused', 'warned', 'passed']),
  at: Instant,
  action: v.string(),
  recordKey: v.string(),
  label: v.string(),
  actor: v.nullable(v.string()),
  login: v.string(),
  reason: v.nullable(v.string()),
  /** The save that it was of, where it was let through and has reached the ledger. */
  saveId: v.nullable(v.string()),
  openingId: v.nullable(v.number()),
})
export type GuardMet = v.InferOutput<typeof GuardMet>

/** What a guard would have done in the year before now. */
export const GuardTrial = v.object({
  from: Instant,
  times: v.number(),
  /** Of how many saves that would have been refused the ledger does not know what the other field held. */
  unknown: v.number(),
  /** Of how many the value still stands as it was written. */
  standing: v.number(),
  strip: v.array(Instant),
  by: v.array(v.object({ name: v.string(), times: v.number() })),
  last: v.array(
    v.object({ saveId: v.string(), at: Instant, label: v.string(), actor: v.string(), stands: v.boolean() }),
  ),
  /** Whether there were more saves than were looked through. */
  cut: v.boolean(),
})
export type GuardTrial = v.InferOutput<typeof GuardTrial>

const guard = '/guards/:guardId'
const guardParams = v.object({ guardId: IntParam })

export const guardRoutes = {
  listGuards: route({
    method: 'GET',
    path: '/guards',
    needs: 'tracking.read',
    summary: 'The guards in force and in drafts, with what they refused',
    response: v.object({ guards: v.array(GuardLine) }),
  }),
  newGuard: route({
    method: 'POST',
    path: '/tracking/types/:typeId/guards',
    needs: 'tracking.edit',
    summary: 'Have a number for a guard that is to be staged in the draft',
    params: v.object({ typeId: IntParam }),
    response: v.object({ guardId: v.number() }),
  }),
  tryGuard: route({
    method: 'POST',
    path: '/tracking/types/:typeId/guards/trial',
    needs: 'tracking.read',
    summary: 'What a guard would have refused in the past year, by whom, and what of it still stands',
    params: v.object({ typeId: IntParam }),
    body: v.strictObject({ guard: Guard }),
    response: GuardTrial,
  }),
  readMet: route({
    method: 'GET',
    path: `${guard}/met`,
    needs: 'tracking.read',
    summary: 'The latest that a guard refused, warned of or let by',
    params: guardParams,
    response: v.object({ met: v.array(GuardMet) }),
  }),
  openGuard: route({
    method: 'POST',
    path: `${guard}/openings`,
    needs: 'guards.open',
    summary: 'Open a guard for somebody else for a while, with a reason',
    params: guardParams,
    body: v.strictObject({
      actor: v.pipe(KeptText, v.trim(), v.minLength(1, 'Say for whom.'), v.maxLength(200)),
      minutes: v.pipe(
        v.number(),
        v.integer(),
        v.minValue(1),
        v.maxValue(1440, 'A guard stands open for a day at most.'),
      ),
      reason: Reason,
    }),
    response: GuardOpening,
  }),
  closeGuard: route({
    method: 'DELETE',
    path: `${guard}/openings/:openingId`,
    needs: 'guards.open',
    summary: 'Close a guard before its time',
    params: v.object({ guardId: IntParam, openingId: IntParam }),
    response: GuardOpening,
  }),
}
