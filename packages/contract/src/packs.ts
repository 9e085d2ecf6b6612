import * as v from 'valibot'
import { lastDayOfMonth, rhythmSpells } from '@spoor/core'
import { exportColumns } from './changes.ts'
import {
  Captured,
  GivenZone,
  IdNumber,
  Instant,
  IntParam,
  KeptText,
  Moment,
  Reason,
  RecordKey,
  ScopeText,
} from './common.ts'
import { WorkText } from './figures.ts'
import { StandingCondition } from './records.ts'
import { route } from './route.ts'

const daysOfWeek = 7

/** What a pack can be read as, beside the saves with their proofs, which are always in it. */
export const packShapes = ['pdf', 'xlsx', 'csv'] as const
export type PackShape = (typeof packShapes)[number]

/** The first page of a pack; core's `PackCover`. */
const Cover = v.object({
  spoor: v.literal('evidence pack, 1'),
  number: v.number(),
  title: v.string(),
  why: v.string(),
  madeBy: v.string(),
  madeAt: Instant,
  zone: v.string(),
  scope: v.string(),
  sentence: v.string(),
  within: v.nullable(v.string()),
  holds: v.object({
    changes: v.number(),
    saves: v.number(),
    records: v.number(),
    people: v.number(),
    others: v.number(),
    first: v.nullable(Instant),
    last: v.nullable(Instant),
  }),
  gaps: v.array(v.string()),
  closed: v.array(v.object({ what: v.string(), why: v.string(), values: v.number() })),
  seal: v.nullable(v.object({ origin: v.string(), at: Instant, size: v.number() })),
  authority: v.nullable(v.string()),
  unsealed: v.number(),
  fingerprint: v.nullable(v.string()),
  files: v.array(v.object({ name: v.string(), what: v.string() })),
})

const Blacked = v.object({ fieldId: IdNumber, why: v.pipe(KeptText, v.trim(), v.minLength(2), v.maxLength(200)) })
/** Changes whose values are left out: those in a scope, and whatever in the pack tells the same values of the same records. */
const BlackedScope = v.object({
  scope: v.pipe(KeptText, v.minLength(1), v.maxLength(20_000)),
  why: Blacked.entries.why,
})
const Column = v.picklist(exportColumns)

const mostFields = 1600
const mostConditions = 10
/** A table that stands in a pack beside its changes. Moments are instants in UTC. */
export const PackBeside = v.variant('beside', [
  /** The records of a type as they stood at a moment, in the fields and the order of a grid. */
  v.strictObject({
    beside: v.literal('standing'),
    typeId: IdNumber,
    fields: v.pipe(v.array(IdNumber), v.minLength(1), v.maxLength(mostFields)),
    at: Moment,
    words: v.optional(v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(200))),
    where: v.optional(v.pipe(v.array(StandingCondition), v.maxLength(mostConditions)), []),
    order: v.optional(v.pipe(v.string(), v.regex(/^-?\d{1,9}$/))),
  }),
  /** What a record held at two moments, and how what differs came about. */
  v.strictObject({ beside: v.literal('moments'), typeId: IdNumber, key: RecordKey, a: Moment, b: Moment }),
  /** What moved from a baseline to a moment. */
  v.strictObject({ beside: v.literal('baseline'), baselineId: IdNumber, until: Moment }),
  /** What records hold or held that no save explains: of a type, or of all. */
  v.strictObject({ beside: v.literal('differences'), typeId: v.optional(IdNumber) }),
  /** How the ledger is kept: seals, checks, witnesses, and what was wrong. */
  v.strictObject({ beside: v.literal('custody') }),
])
export type PackBeside = v.InferOutput<typeof PackBeside>
const mostBeside = 5
const mostScopes = 20

/** What is asked for. */
const wish = {
  title: v.pipe(
    KeptText,
    v.trim(),
    v.minLength(3, 'Say for whom or what it is, in at least three letters.'),
    v.maxLength(200),
  ),
  why: Reason,
  scope: ScopeText,
  zone: GivenZone,
  columns: v.pipe(v.array(Column), v.minLength(1), v.maxLength(exportColumns.length)),
  shown: v.pipe(v.array(v.picklist(packShapes)), v.maxLength(packShapes.length)),
  /** Whether what people said of its saves is in it, for whoever may read that: notes, questions and their answers. */
  said: v.boolean(),
  /** Whether an authority is asked to stamp it with the time, where one is set. */
  stamped: v.boolean(),
  /** Fields whose values are left out, with the reason. */
  blacked: v.pipe(v.array(Blacked), v.maxLength(500)),
  /** The same of single changes: by record, person, or whatever else a scope says. */
  blackedScopes: v.optional(v.pipe(v.array(BlackedScope), v.maxLength(mostScopes))),
  /** What is worked out of the scope and put in with it, as a link has it. */
  work: v.optional(WorkText),
  /** Tables that stand beside the changes. */
  beside: v.optional(v.pipe(v.array(PackBeside), v.maxLength(mostBeside))),
  /** The open case in which the pack is gathered once it is asked for. */
  caseId: v.optional(IdNumber),
}

/** An address by which somebody without a sign-in takes a pack. */
export const PackLink = v.object({
  id: v.number(),
  forWhom: v.string(),
  by: v.string(),
  madeAt: Instant,
  endsAt: Instant,
  most: v.number(),
  taken: v.number(),
  /** Whether it can still be used. */
  open: v.boolean(),
})

const mostAddresses = 20
const Addresses = v.pipe(
  v.array(v.pipe(v.string(), v.trim(), v.email('This is no mail address.'), v.maxLength(300))),
  v.maxLength(mostAddresses),
)

/** When a regular pack is made: core's `Rhythm`. */
const GivenRhythm = v.pipe(
  v.strictObject({
    each: v.picklist(rhythmSpells),
    on: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(lastDayOfMonth)),
    at: v.pipe(v.string(), v.regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'Give a time as 06:00.')),
    workingDay: v.boolean(),
  }),
  v.check(({ each, on }) => each !== 'week' || on <= daysOfWeek, 'A week has seven days.'),
)

/** A pack that is made again and again, each of the time before. */
export const RegularPack = v.object({
  id: v.number(),
  title: v.string(),
  why: v.string(),
  /** Its scope as a sentence, which says no time. */
  sentence: v.string(),
  rhythm: GivenRhythm,
  zone: v.string(),
  /** To which addresses each is sent. */
  mail: v.array(v.string()),
  owner: v.object({ id: v.number(), name: v.string() }),
  madeAt: Instant,
  nextAt: Instant,
  /** How many were asked for, and the last of them. */
  made: v.number(),
  lastPackId: v.nullable(v.number()),
  /** Why it cannot be made as it is. */
  trouble: v.nullable(v.string()),
})
export type RegularPack = v.InferOutput<typeof RegularPack>

export const Pack = v.object({
  id: v.number(),
  title: v.string(),
  why: v.string(),
  scope: v.string(),
  zone: v.string(),
  columns: v.array(Column),
  shown: v.array(v.picklist(packShapes)),
  said: v.boolean(),
  stamped: v.boolean(),
  /** What was worked out of the scope and is in it. */
  workedOut: v.nullable(v.string()),
  beside: v.array(PackBeside),
  blacked: v.array(Blacked),
  blackedScopes: v.array(v.object({ scope: v.string(), why: v.string() })),
  madeBy: v.string(),
  askedAt: Instant,
  state: v.picklist(['going', 'kept', 'failed', 'withdrawn']),
  /** Why it was not made. */
  failed: v.nullable(v.string()),
  madeAt: v.nullable(Instant),
  cover: v.nullable(Cover),
  /** Bytes of the file, and their SHA-256 in hexadecimal digits. */
  size: v.nullable(v.number()),
  digest: v.nullable(v.string()),
  withdrawn: v.nullable(v.object({ by: v.string(), at: Instant, why: v.string() })),
  /** While it is made: how far. */
  work: v.nullable(
    v.object({ jobId: v.number(), doing: v.nullable(v.string()), done: v.number(), total: v.nullable(v.number()) }),
  ),
  /** Who took it, the latest first. */
  taken: v.array(v.object({ by: v.string(), at: Instant })),
  takenCount: v.number(),
  links: v.array(PackLink),
  /** To whom it was sent or is to be, the latest first. */
  mails: v.array(
    v.object({
      id: v.number(),
      to: v.string(),
      by: v.string(),
      askedAt: Instant,
      state: v.picklist(['waiting', 'sent', 'given up']),
      tries: v.number(),
      trouble: v.nullable(v.string()),
      dueAt: Instant,
      sentAt: v.nullable(Instant),
    }),
  ),
  /** The regular pack of which it is one. */
  regularId: v.nullable(v.number()),
})
export type Pack = v.InferOutput<typeof Pack>

/** How a pack would begin: its first page, and what of it can be left out. */
export const PackPreview = v.object({
  cover: Cover,
  /** Who stamps packs with the time; null where nobody is set. */
  authority: v.nullable(v.string()),
  /** Fields of which there are changes in it, the most first. */
  fields: v.array(
    v.object({ fieldId: v.number(), name: v.string(), type: v.string(), changes: v.number(), masked: v.boolean() }),
  ),
  /** The first changes, in the columns that were asked for. */
  heads: v.array(v.string()),
  lines: v.array(v.array(Captured)),
  /** What stands beside them, each in words. */
  beside: v.array(v.string()),
  /** How many changes each of the scopes leaves out that are in it. */
  blackedScopes: v.array(v.number()),
})
export type PackPreview = v.InferOutput<typeof PackPreview>

/** What whoever has a link is told. */
export const HandedPack = v.object({
  number: v.number(),
  title: v.string(),
  by: v.string(),
  size: v.number(),
  digest: v.string(),
  endsAt: Instant,
  /** How often it can still be taken. */
  left: v.number(),
})

const params = v.object({ packId: IntParam })
// What stands beside it is of a moment, and each of these of another.
const { caseId: _, beside: __, ...regularWish } = wish
const regularPacks = v.object({ regular: v.array(RegularPack), mayMail: v.boolean() })
const token = v.object({ token: v.pipe(v.string(), v.regex(/^[A-Za-z0-9_-]{43}$/)) })
const mostDays = 366
const mostTakings = 1000

export const packRoutes = {
  listPacks: route({
    method: 'GET',
    path: '/packs',
    needs: 'packs.read',
    summary: 'Evidence that was taken out, the latest first: all of it, or one’s own for whoever sees a part only',
    query: v.object({ before: v.optional(IntParam) }),
    response: v.object({ packs: v.array(Pack), next: v.nullable(v.number()) }),
  }),
  previewPack: route({
    method: 'POST',
    path: '/packs/preview',
    needs: 'packs.make',
    summary: 'How a pack would begin; nothing is made',
    body: v.strictObject({
      ...wish,
      title: v.pipe(v.string(), v.maxLength(200)),
      why: v.pipe(v.string(), v.maxLength(2000)),
    }),
    response: PackPreview,
  }),
  makePack: route({
    method: 'POST',
    path: '/packs',
    needs: 'packs.make',
    summary: 'Make a pack of the changes in a scope; it is made as long work',
    body: v.strictObject(wish),
    response: Pack,
  }),
  readPack: route({
    method: 'GET',
    path: '/packs/:packId',
    needs: 'packs.read',
    summary: 'One pack with who took it',
    params,
    response: Pack,
  }),
  takePack: route({
    method: 'GET',
    path: '/packs/:packId/file',
    needs: 'packs.read',
    summary: 'Take a pack: the ZIP file; this is recorded',
    params,
  }),
  withdrawPack: route({
    method: 'POST',
    path: '/packs/:packId/withdrawal',
    needs: 'packs.withdraw',
    summary:
      'Withdraw a pack: nobody can take it any more, and its file is removed; what was taken before stays what it is',
    params,
    body: v.strictObject({ why: Reason }),
    response: Pack,
  }),
  makePackLink: route({
    method: 'POST',
    path: '/packs/:packId/links',
    needs: 'packs.hand',
    summary: 'An address by which somebody without a sign-in takes a pack, so often and until then; it is told once',
    params,
    body: v.strictObject({
      forWhom: v.pipe(v.string(), v.trim(), v.minLength(2, 'Say whom it is for.'), v.maxLength(200)),
      days: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(mostDays)),
      most: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(mostTakings)),
    }),
    response: v.object({ linkToken: v.string(), pack: Pack }),
  }),
  mailPack: route({
    method: 'POST',
    path: '/packs/:packId/mails',
    needs: 'packs.hand',
    summary: 'Send a pack to mail addresses, each with a link of its own that leads to it so often and until then',
    params,
    body: v.strictObject({
      to: v.pipe(Addresses, v.minLength(1, 'Say to whom.')),
      days: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(mostDays)),
      most: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(mostTakings)),
    }),
    response: Pack,
  }),
  listRegularPacks: route({
    method: 'GET',
    path: '/regular-packs',
    needs: 'packs.read',
    summary: 'Packs that are made regularly: all, or one’s own for whoever sees a part only',
    response: regularPacks,
  }),
  makeRegularPack: route({
    method: 'POST',
    path: '/regular-packs',
    needs: 'packs.make',
    summary: 'Have a pack made regularly, each of the time before, from its next turn on',
    body: v.strictObject({ ...regularWish, rhythm: GivenRhythm, mail: Addresses }),
    response: regularPacks,
  }),
  endRegularPack: route({
    method: 'DELETE',
    path: '/regular-packs/:regularId',
    needs: 'packs.make',
    summary: 'Let a regular pack be made no more; what was made stays',
    params: v.object({ regularId: IntParam }),
    response: regularPacks,
  }),
  endPackLink: route({
    method: 'DELETE',
    path: '/packs/:packId/links/:linkId',
    needs: 'packs.hand',
    summary: 'Let an address lead nowhere from now on',
    params: v.object({ packId: IntParam, linkId: IntParam }),
    response: Pack,
  }),
  readHandedPack: route({
    method: 'GET',
    path: '/handed/:token',
    needs: 'nobody',
    summary: 'What a link leads to',
    params: token,
    response: HandedPack,
  }),
  takeHandedPack: route({
    method: 'GET',
    path: '/handed/:token/file',
    needs: 'nobody',
    summary: 'Take a pack by its link: the ZIP file; this is recorded, and counts',
    params: token,
  }),
}
