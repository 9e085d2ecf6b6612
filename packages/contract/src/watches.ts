import * as v from 'valibot'
import { watchMoves, watchSpells } from '@spoor/core'
import { GivenDay, GivenZone, IdNumber, Instant, IntParam, KeptText, Reason, SaveId, ScopeText } from './common.ts'
import { route } from './route.ts'

const Time = v.pipe(v.string(), v.regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'Give a time as 17:30.'))
const Weekday = v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(7))
const mostSaves = 1_000_000

/** Some days of the week, all of them or those that are no holidays. */
const onDays = {
  days: v.pipe(v.array(Weekday), v.minLength(1, 'Choose a day of the week.'), v.maxLength(7)),
  notHolidays: v.optional(v.boolean()),
}

/** When it fires. */
const Fires = v.variant('fires', [
  v.strictObject({
    fires: v.literal('saves'),
    more: v.pipe(v.number(), v.integer(), v.minValue(0), v.maxValue(mostSaves)),
    within: v.picklist(watchSpells),
  }),
  v.strictObject({
    fires: v.literal('sum'),
    fieldId: IdNumber,
    way: v.picklist(watchMoves),
    over: v.pipe(v.string(), v.regex(/^\d{1,20}(\.\d{1,10})?$/, 'Give an amount as 12500 or 12500.50.')),
    within: v.picklist(watchSpells),
  }),
  v.strictObject({ fires: v.literal('unusual') }),
  v.strictObject({ fires: v.literal('missing'), by: Time, ...onDays }),
  v.strictObject({ fires: v.literal('stands-out') }),
  v.strictObject({ fires: v.literal('alarm') }),
  v.strictObject({ fires: v.literal('guard') }),
  v.strictObject({ fires: v.literal('digest'), at: Time, ...onDays }),
])

/** When it speaks. */
const Speaks = v.variant('speaks', [
  v.strictObject({ speaks: v.literal('once') }),
  v.strictObject({ speaks: v.literal('hourly') }),
  v.strictObject({ speaks: v.literal('daily'), at: Time }),
  v.strictObject({ speaks: v.literal('weekly'), at: Time, on: Weekday }),
])

const mostTold = 50

/** What a watch is: which saves, when it fires, when it speaks, and to whom. */
export const WatchRule = v.strictObject({
  scope: ScopeText,
  fires: Fires,
  speaks: Speaks,
  quiet: v.nullable(v.strictObject({ from: Time, to: Time })),
  zone: GivenZone,
  /** Who is told in Spoor, by number. */
  people: v.pipe(v.array(IdNumber), v.maxLength(mostTold)),
  /** Receivers that are told, by number. */
  receivers: v.pipe(v.array(IdNumber), v.maxLength(mostTold)),
  /** Addresses that are told by mail. */
  mail: v.pipe(
    v.array(v.pipe(v.string(), v.trim(), v.email('This is no mail address.'), v.maxLength(300))),
    v.maxLength(mostTold),
  ),
})
export type WatchRule = v.InferOutput<typeof WatchRule>

/** Something that is said of what is not saves alone: words without any value, and where it is looked at (a path within Spoor). */
export const Saying = v.object({ words: v.string(), path: v.string() })
export type Saying = v.InferOutput<typeof Saying>

/** A time at which a watch fired, and what became of its messages. */
export const Firing = v.object({
  id: v.number(),
  at: Instant,
  saves: v.number(),
  from: Instant,
  to: Instant,
  /** "412 saves of tenancies by I. Coombe". */
  words: v.string(),
  /** The first of its saves. */
  saveId: v.nullable(SaveId),
  said: v.array(Saying),
  messages: v.array(
    v.object({
      id: v.number(),
      to: v.string(),
      way: v.picklist(['spoor', 'mail', 'receiver']),
      state: v.picklist(['waiting', 'sent', 'given up']),
      dueAt: Instant,
      sentAt: v.nullable(Instant),
      readAt: v.nullable(Instant),
      tries: v.number(),
      trouble: v.nullable(v.string()),
    }),
  ),
})
export type Firing = v.InferOutput<typeof Firing>

export const Watch = v.object({
  ...WatchRule.entries,
  id: v.number(),
  /** The scope as a sentence. */
  sentence: v.string(),
  /** What the field is called whose differences it adds up. */
  field: v.nullable(v.string()),
  /** Everybody who is told, as they are called. */
  told: v.array(v.string()),
  owner: v.object({ id: v.number(), name: v.string() }),
  madeAt: Instant,
  state: v.picklist(['on', 'paused', 'muted']),
  /** Why it is paused or muted. */
  stateWhy: v.nullable(v.string()),
  /** Why it cannot be looked after as it is. */
  trouble: v.nullable(v.string()),
  /** How often it fired, and the first of each day of the last year on which it did, oldest first. */
  fired: v.number(),
  strip: v.array(Instant),
  lastAt: v.nullable(Instant),
  /** Messages that wait, and that were given up. */
  waiting: v.number(),
  givenUp: v.number(),
})
export type Watch = v.InferOutput<typeof Watch>

/** What a watch would have done in the past year. */
export const WatchTrial = v.object({
  from: Instant,
  /** The last times at which it would have fired, the latest first; `times` counts them all. */
  last: v.array(
    v.object({
      at: Instant,
      saves: v.number(),
      saveId: v.nullable(SaveId),
      /** What the differences come to, where they are added up. */
      total: v.nullable(v.string()),
      said: v.array(Saying),
    }),
  ),
  times: v.number(),
  /** The first of each day on which it would have fired, oldest first. */
  strip: v.array(Instant),
  /** Who made the saves, who most often first. */
  by: v.array(v.object({ name: v.string(), times: v.number() })),
  /** What a message at this moment would say, where it tells of more than saves. */
  now: v.array(Saying),
})
export type WatchTrial = v.InferOutput<typeof WatchTrial>

/** Something that somebody is told in Spoor. */
export const Told = v.object({
  id: v.number(),
  watchId: v.number(),
  at: Instant,
  words: v.string(),
  sentence: v.string(),
  saves: v.number(),
  saveId: v.nullable(SaveId),
  said: v.array(Saying),
})
export type Told = v.InferOutput<typeof Told>

const mostHolidays = 2000
/** Days on which nothing is expected of anybody, oldest first. */
export const Holidays = v.pipe(
  v.array(
    v.strictObject({
      day: GivenDay,
      name: v.pipe(KeptText, v.trim(), v.maxLength(100)),
    }),
  ),
  v.maxLength(mostHolidays),
)
export type Holidays = v.InferOutput<typeof Holidays>

/** A program that is told of what fires, by a signed request. */
export const Receiver = v.object({
  id: v.number(),
  name: v.string(),
  /** Its address as people read it: no login, no query. */
  place: v.string(),
  /** Whether it may be within the own network. */
  inside: v.boolean(),
  madeBy: v.string(),
  madeAt: Instant,
  endedAt: v.nullable(Instant),
})
export type Receiver = v.InferOutput<typeof Receiver>

const receiverParams = v.object({ receiverId: IntParam })
const mostUrl = 2000

const params = v.object({ watchId: IntParam })

export const watchRoutes = {
  listWatches: route({
    method: 'GET',
    path: '/watches',
    needs: 'watches.read',
    summary: 'Every watch with its past',
    response: v.object({ watches: v.array(Watch), receivers: v.array(Receiver), mayMail: v.boolean() }),
  }),
  makeWatch: route({
    method: 'POST',
    path: '/watches',
    needs: 'watches.edit',
    summary: 'Watch what comes from now on',
    body: WatchRule,
    response: Watch,
  }),
  tryWatch: route({
    method: 'POST',
    path: '/watches/trial',
    needs: 'watches.read',
    summary: 'When a watch would have fired in the past year; nothing is kept and nobody is told',
    body: WatchRule,
    response: WatchTrial,
  }),
  changeWatch: route({
    method: 'PUT',
    path: '/watches/:watchId',
    needs: 'watches.edit',
    summary: 'Change a watch of one’s own, or any as an administrator; what it has told stays',
    params,
    body: WatchRule,
    response: Watch,
  }),
  setWatchState: route({
    method: 'PUT',
    path: '/watches/:watchId/state',
    needs: 'watches.edit',
    summary: 'Let a watch go on, mute it (it fires and tells nobody), or pause it (it looks at nothing), with a reason',
    params,
    body: v.strictObject({ state: v.picklist(['on', 'muted', 'paused']), why: v.nullable(Reason) }),
    response: Watch,
  }),
  removeWatch: route({
    method: 'DELETE',
    path: '/watches/:watchId',
    needs: 'watches.edit',
    summary: 'Take a watch away; what it told stays in the ledger of events',
    params,
    response: v.object({ removed: v.literal(true) }),
  }),
  tryMessage: route({
    method: 'POST',
    path: '/watches/:watchId/trial-message',
    needs: 'watches.edit',
    summary: 'Send a message to everybody whom a watch tells, at once, that says that nothing happened',
    params,
    response: Watch,
  }),
  sendAgain: route({
    method: 'POST',
    path: '/watches/:watchId/messages/:messageId/again',
    needs: 'watches.edit',
    summary: 'Send a message again that was given up',
    params: v.object({ watchId: IntParam, messageId: SaveId }),
    response: Watch,
  }),
  listFirings: route({
    method: 'GET',
    path: '/watches/:watchId/firings',
    needs: 'watches.read',
    summary: 'When a watch fired and what was sent, the latest first',
    params,
    query: v.object({ before: v.optional(SaveId) }),
    response: v.object({ firings: v.array(Firing), next: v.nullable(v.string()) }),
  }),
  addReceiver: route({
    method: 'POST',
    path: '/receivers',
    needs: 'receivers.edit',
    summary: 'Let watches tell a program at an address; the secret that signs what it is sent is told once',
    body: v.strictObject({
      name: v.pipe(v.string(), v.trim(), v.minLength(2, 'Give it a name.'), v.maxLength(100)),
      url: v.pipe(
        v.string(),
        v.url('This is no address.'),
        v.regex(/^https?:\/\//, 'Give an http:// or https:// address.'),
        v.maxLength(mostUrl),
      ),
      inside: v.boolean(),
    }),
    response: v.object({ receiver: Receiver, secret: v.string() }),
  }),
  renewReceiverSecret: route({
    method: 'POST',
    path: '/receivers/:receiverId/secret',
    needs: 'receivers.edit',
    summary: 'Another secret for a receiver, told once; the one before signs beside it for a day',
    params: receiverParams,
    response: v.object({ receiver: Receiver, secret: v.string() }),
  }),
  endReceiver: route({
    method: 'DELETE',
    path: '/receivers/:receiverId',
    needs: 'receivers.edit',
    summary: 'Tell a program nothing more; what waits for it is given up',
    params: receiverParams,
    response: Receiver,
  }),
  listHolidays: route({
    method: 'GET',
    path: '/holidays',
    needs: 'watches.read',
    summary: 'Days on which nothing is expected of anybody',
    response: v.object({ holidays: Holidays }),
  }),
  keepHolidays: route({
    method: 'PUT',
    path: '/holidays',
    needs: 'holidays.edit',
    summary: 'Keep these days as holidays, and no others',
    body: v.strictObject({ holidays: Holidays }),
    response: v.object({ holidays: Holidays }),
  }),
  listTold: route({
    method: 'GET',
    path: '/told',
    needs: 'watches.read',
    summary: 'What watches told oneself and was not read yet',
    response: v.object({ told: v.array(Told), count: v.number() }),
  }),
  readTold: route({
    method: 'PUT',
    path: '/told/read',
    needs: 'watches.read',
    summary: 'Say that what watches told was read',
    body: v.strictObject({ messageIds: v.pipe(v.array(IdNumber), v.minLength(1), v.maxLength(1000)) }),
    response: v.object({ read: v.number() }),
  }),
}
