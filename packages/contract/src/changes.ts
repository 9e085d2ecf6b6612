import * as v from 'valibot'
import { Action, Captured, Instant, IntParam, Kind, SaveId, ScopeText, IdNumber, GivenZone } from './common.ts'
import { route } from './route.ts'

/** One field of one save. Values longer than the list's limit come cut, and say so. */
export const Change = v.object({
  fieldId: v.number(),
  before: Captured,
  after: Captured,
  beforeCut: v.boolean(),
  afterCut: v.boolean(),
  /** The values are kept and not shown; they can be revealed. */
  masked: v.boolean(),
  /** The values were erased for good; that they were changed, by whom and when stays. */
  erased: v.boolean(),
  /** False when the scope that was asked for does not mean this field of the save. */
  inScope: v.boolean(),
  /** The correction that set this change back, if one did. */
  revertedBy: v.nullable(v.number()),
})
export type Change = v.InferOutput<typeof Change>

export const ActorRef = v.object({
  id: v.number(),
  name: v.string(),
  kind: Kind,
  /** From the directory: where they work, and since when they no longer do. */
  unit: v.nullable(v.string()),
  leftOn: v.nullable(v.string()),
  /** Declared by a login that may not declare. */
  claimed: v.boolean(),
  /** Who it turned out to be, when it was mapped to somebody later. */
  knownAs: v.nullable(v.string()),
})

export const Save = v.object({
  id: SaveId,
  at: Instant,
  typeId: v.number(),
  key: v.string(),
  label: v.string(),
  /** The record whose line it is. */
  parent: v.nullable(v.object({ typeId: v.number(), key: v.string(), label: v.string() })),
  action: Action,
  actor: ActorRef,
  onBehalfOf: v.nullable(v.string()),
  channel: v.string(),
  run: v.nullable(v.string()),
  reason: v.nullable(v.string()),
  /** The correction this save carried out, if it did. */
  correctionId: v.nullable(v.number()),
  marks: v.array(v.picklist(['reviewed', 'flagged', 'asked', 'answered', 'assigned'])),
  changes: v.array(Change),
})
export type Save = v.InferOutput<typeof Save>

/** What a record is called that a reference field points to. */
export const Reference = v.object({ fieldId: v.number(), value: v.string(), label: v.string() })
export type Reference = v.InferOutput<typeof Reference>

/** What happened to a field after the save that is open. */
export const Afterwards = v.object({
  fieldId: v.number(),
  times: v.number(),
  latest: v.nullable(
    v.object({
      saveId: SaveId,
      at: Instant,
      actorName: v.string(),
      after: Captured,
      action: Action,
      backToBefore: v.boolean(),
    }),
  ),
})
export type Afterwards = v.InferOutput<typeof Afterwards>

const Size = v.nullable(v.number())

export const SaveDetail = v.object({
  save: Save,
  /** By field, how many bytes the values have of which only the beginning is told here; null where there is none. */
  sizes: v.record(v.string(), v.object({ before: Size, after: Size })),
  dbLogin: v.string(),
  mayDeclare: v.boolean(),
  applicationName: v.nullable(v.string()),
  clientAddress: v.nullable(v.string()),
  transaction: v.string(),
  planVersion: v.number(),
  /** Saves made by the same transaction, this one included. */
  savesInTransaction: v.number(),
  /** The saves that belong together with this one, within the person's reach. */
  run: v.object({
    id: v.nullable(v.number()),
    kind: v.picklist(['declared', 'transaction', 'burst']),
    declared: v.nullable(v.string()),
    saves: v.number(),
  }),
  trackedSince: v.record(v.string(), Instant),
  /** What the records are called that reference fields point to, as far as it is known, by field and key. */
  references: v.array(Reference),
  /** Names the actor had before, when the save was made under one of them. */
  nameThen: v.nullable(v.string()),
  /** Guards that would have refused it: they only warned, or one was opened for whoever made it. */
  guards: v.array(
    v.object({
      guardId: v.number(),
      how: v.picklist(['warned', 'passed']),
      name: v.string(),
      opening: v.nullable(v.object({ by: v.string(), reason: v.string(), until: Instant })),
    }),
  ),
  afterwards: v.array(Afterwards),
  /** Neighbours in the record's own trail. */
  earlier: v.nullable(SaveId),
  later: v.nullable(SaveId),
})
export type SaveDetail = v.InferOutput<typeof SaveDetail>

/** What one side of several changes of a field held: one value, numbers or days between two, or nothing that is said shortly. */
export const Held = v.variant('held', [
  v.object({ held: v.literal('one'), value: Captured }),
  v.object({ held: v.literal('span'), least: v.string(), most: v.string() }),
  v.object({ held: v.literal('various') }),
  v.object({ held: v.literal('masked') }),
])
export type Held = v.InferOutput<typeof Held>

/** The saves of one run within a scope, as one line with what they have in common. */
export const RunLine = v.object({
  /** The newest of them, at whose place in the list they stand. */
  saveId: SaveId,
  runId: v.number(),
  /** What the run called itself. */
  declared: v.nullable(v.string()),
  saves: v.number(),
  /** There are more saves than were reckoned with; what is said is said of the latest. */
  about: v.boolean(),
  from: Instant,
  to: Instant,
  /** Most records first. */
  types: v.array(v.object({ typeId: v.number(), records: v.number() })),
  actions: v.array(Action),
  /** Whether all of them were made by the actor, came through the channel, and gave the reason, of the newest. */
  oneActor: v.boolean(),
  oneChannel: v.boolean(),
  oneReason: v.boolean(),
  /** The fields in scope that they changed, most often first. */
  fields: v.array(v.object({ fieldId: v.number(), changes: v.number(), before: Held, after: Held })),
})
export type RunLine = v.InferOutput<typeof RunLine>

export const SavePage = v.object({
  saves: v.array(Save),
  /** Of these saves those that stand for their whole run, where that was asked for. */
  runs: v.array(RunLine),
  references: v.array(Reference),
  /** Pass as `after` for the next page; null at the end. */
  next: v.nullable(v.string()),
})
export type SavePage = v.InferOutput<typeof SavePage>

export const Summary = v.object({
  saves: v.number(),
  changes: v.number(),
  /** There are more than were counted. */
  about: v.boolean(),
  /** Spells within the scope's time in which a field of it was not captured though it was before. */
  gaps: v.array(
    v.object({
      typeId: v.number(),
      fieldId: v.number(),
      from: Instant,
      to: v.nullable(Instant),
      because: v.nullable(v.string()),
    }),
  ),
  /** Labels of the records that the scope names, by `t<type>:<key>`. */
  recordLabels: v.record(v.string(), v.string()),
  /** What stands out in the stories that the scope names, by number. */
  storyLabels: v.record(v.string(), v.string()),
  /** The questions of the cases that the scope names, by number. */
  caseLabels: v.record(v.string(), v.string()),
  /** What the runs are called that the scope names, by number. */
  runLabels: v.record(v.string(), v.string()),
})
export type Summary = v.InferOutput<typeof Summary>

/** Columns of an export, in the order they are written unless the request orders them otherwise. */
export const exportColumns = [
  'time',
  'who',
  'kind',
  'onBehalfOf',
  'type',
  'record',
  'key',
  'action',
  'field',
  'before',
  'after',
  'difference',
  'channel',
  'reason',
  'login',
  'save',
] as const
export type ExportColumn = (typeof exportColumns)[number]

/** What a column is called at the head of a file. */
export const exportHeadings: Readonly<Record<ExportColumn, string>> = {
  time: 'time',
  who: 'who',
  kind: 'kind of actor',
  onBehalfOf: 'on behalf of',
  type: 'record type',
  record: 'record',
  key: 'record key',
  action: 'action',
  field: 'field',
  before: 'before',
  after: 'after',
  difference: 'difference',
  channel: 'channel',
  reason: 'reason',
  login: 'database login',
  save: 'save',
}

const ColumnList = v.pipe(
  v.string(),
  v.transform((text) => text.split(',')),
  v.array(v.picklist(exportColumns)),
  v.minLength(1),
)

/** So many can be put in another order than that of time while somebody waits. */
export const mostSorted = 5000
export const saveSorts = ['time', 'who', 'record', 'channel', 'reason', 'save'] as const
export type SaveSort = (typeof saveSorts)[number]
export const changeSorts = ['time', 'who', 'record', 'field', 'before', 'after', 'difference'] as const
export type ChangeSort = (typeof changeSorts)[number]

/** A list whose columns a person arranges: of saves, of changes, or of the records of a type by its number. */
const ListName = v.pipe(v.string(), v.regex(/^(saves|changes|records-\d{1,9})$/, 'There is no such list.'))
export type ListName = 'saves' | 'changes' | `records-${number}`
const widest = 2000
/** Columns in order, some left out; the width in pixels where somebody chose one. */
export const Layout = v.pipe(
  v.array(
    v.strictObject({
      id: v.pipe(v.string(), v.regex(/^[a-z]{1,20}\d{0,9}$/)),
      hidden: v.optional(v.boolean()),
      width: v.optional(v.pipe(v.number(), v.integer(), v.minValue(24), v.maxValue(widest))),
    }),
  ),
  // A table may have as many columns as PostgreSQL has.
  v.maxLength(1700),
)
export type Layout = v.InferOutput<typeof Layout>

export const changesRoutes = {
  readLayouts: route({
    method: 'GET',
    path: '/layouts',
    needs: 'session',
    summary: 'How the person has the columns of lists',
    response: v.object({ layouts: v.record(v.string(), Layout) }),
  }),
  keepLayout: route({
    method: 'PUT',
    path: '/layouts/:list',
    needs: 'session',
    summary: 'Keep how the person has the columns of a list',
    params: v.object({ list: ListName }),
    body: v.strictObject({ columns: Layout }),
    response: v.object({ kept: v.literal(true) }),
  }),
  listSaves: route({
    method: 'GET',
    path: '/changes/saves',
    needs: 'changes.read',
    summary: 'Saves in a scope, newest first, or in another order where there are not too many',
    query: v.object({
      scope: ScopeText,
      after: v.optional(v.pipe(v.string(), v.regex(/^([\d:.TZ-]{20,32}|\d{1,6})_\d{1,19}$/))),
      sort: v.optional(v.picklist(saveSorts), 'time'),
      descending: v.optional(v.picklist(['0', '1']), '1'),
      /** Newest first, the saves of a long run stand in one line. */
      together: v.optional(v.picklist(['0', '1']), '0'),
      /** Only the saves of this run. */
      run: v.optional(v.pipe(v.string(), v.regex(/^\d{1,15}$/), v.transform(Number))),
      limit: v.optional(
        v.pipe(v.string(), v.regex(/^\d{1,3}$/), v.transform(Number), v.minValue(1), v.maxValue(200)),
        '100',
      ),
    }),
    response: SavePage,
  }),
  summariseChanges: route({
    method: 'GET',
    path: '/changes/summary',
    needs: 'changes.read',
    summary: 'How many saves and changes a scope means',
    query: v.object({ scope: ScopeText }),
    response: Summary,
  }),
  exportChanges: route({
    method: 'GET',
    path: '/changes/export.csv',
    needs: 'changes.export',
    summary: 'The changes in a scope as CSV, one line a change, newest first or in the order of a list',
    query: v.object({
      scope: ScopeText,
      columns: v.optional(ColumnList),
      /** In the order of this list, where it is sorted by something else than time, the newest first. */
      list: v.optional(v.picklist(['saves', 'changes']), 'changes'),
      sort: v.optional(v.picklist([...new Set([...saveSorts, ...changeSorts])]), 'time'),
      descending: v.optional(v.picklist(['0', '1']), '1'),
      zone: v.optional(GivenZone, 'UTC'),
    }),
  }),
  revealChange: route({
    method: 'POST',
    path: '/changes/saves/:saveId/reveal',
    needs: 'values.reveal',
    summary: 'Show the values of a masked field of one save; this is recorded',
    params: v.object({ saveId: SaveId }),
    body: v.strictObject({ fieldId: IdNumber }),
    response: v.object({ before: Captured, after: Captured }),
  }),
  readValue: route({
    method: 'GET',
    path: '/changes/saves/:saveId/values/:fieldId',
    needs: 'changes.read',
    summary: 'One value of a save, whole, as text',
    params: v.object({ saveId: SaveId, fieldId: IntParam }),
    query: v.object({ side: v.picklist(['before', 'after']) }),
  }),
  readSave: route({
    method: 'GET',
    path: '/changes/saves/:saveId',
    needs: 'changes.read',
    summary: 'One save with everything known of it',
    params: v.object({ saveId: SaveId }),
    response: SaveDetail,
  }),
}
