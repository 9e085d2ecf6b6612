import * as v from 'valibot'
import { actorKinds } from '@spoor/core'
import { Action, Instant, IntParam, Kind, SaveId, ScopeText, GivenDay, GivenZone } from './common.ts'
import { ActorRef, Change, changeSorts, Reference } from './changes.ts'
import { route } from './route.ts'

const Limit = v.optional(
  v.pipe(v.string(), v.regex(/^\d{1,3}$/), v.transform(Number), v.minValue(1), v.maxValue(200)),
  '100',
)
const scoped = { scope: ScopeText }

/** One change with what its own line needs. */
export const ChangeLine = v.object({
  saveId: SaveId,
  at: Instant,
  typeId: v.number(),
  key: v.string(),
  label: v.string(),
  action: Action,
  actor: ActorRef,
  onBehalfOf: v.nullable(v.string()),
  channel: v.string(),
  reason: v.nullable(v.string()),
  change: Change,
})
export type ChangeLine = v.InferOutput<typeof ChangeLine>

export const ChangePage = v.object({
  lines: v.array(ChangeLine),
  references: v.array(Reference),
  next: v.nullable(v.string()),
})
export type ChangePage = v.InferOutput<typeof ChangePage>

/** How many saves there were in one spell of time, by kind of actor. */
export const Bucket = v.object({ from: Instant, to: Instant, saves: v.record(v.picklist(actorKinds), v.number()) })
export const Activity = v.object({
  bucket: v.picklist(['year', 'month', 'week', 'day', 'hour', 'minute']),
  buckets: v.array(Bucket),
  /** The latest and earliest saves that the scope means were looked for in this spell; null when there are none. */
  from: v.nullable(Instant),
  to: v.nullable(Instant),
})
export type Activity = v.InferOutput<typeof Activity>

export const Group = v.object({
  /** The day as YYYY-MM-DD, or the number of the actor or record type. */
  key: v.string(),
  saves: v.number(),
  changes: v.number(),
})
export type Group = v.InferOutput<typeof Group>

export const RecordLine = v.object({
  typeId: v.number(),
  key: v.string(),
  label: v.string(),
  deleted: v.boolean(),
  saves: v.number(),
  changes: v.number(),
  actors: v.number(),
  lastAt: Instant,
})
export type RecordLine = v.InferOutput<typeof RecordLine>

/** One actor's saves of one record type, with what is usual for the two in a spell as long. */
export const Pair = v.object({
  actorId: v.number(),
  kind: Kind,
  typeId: v.number(),
  saves: v.number(),
  /** Saves in an equal spell on average, over the spells before; null when there is nothing to compare with. */
  usual: v.nullable(v.number()),
})
export const Pairs = v.object({ pairs: v.array(Pair), spells: v.number() })
export type Pairs = v.InferOutput<typeof Pairs>

export const NamedScope = v.object({
  id: v.number(),
  name: v.string(),
  scope: v.string(),
  shared: v.boolean(),
  mine: v.boolean(),
  owner: v.string(),
})
export type NamedScope = v.InferOutput<typeof NamedScope>
const NewScope = v.strictObject({
  name: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(120)),
  scope: v.pipe(v.string(), v.maxLength(20_000)),
  shared: v.boolean(),
})

export const readingsRoutes = {
  listChanges: route({
    method: 'GET',
    path: '/changes/changes',
    needs: 'changes.read',
    summary: 'Changes in a scope by time, or in another order where there are not too many',
    query: v.object({
      ...scoped,
      after: v.optional(v.pipe(v.string(), v.regex(/^([\d:.TZ-]{20,32}_\d{1,19}_\d{1,9}|\d{1,6}_\d{1,19})$/))),
      limit: Limit,
      sort: v.optional(v.picklist(changeSorts), 'time'),
      descending: v.optional(v.picklist(['0', '1']), '1'),
    }),
    response: ChangePage,
  }),
  readActivity: route({
    method: 'GET',
    path: '/changes/activity',
    needs: 'changes.read',
    summary: 'Saves in a scope over time by kind of actor, in spells fit for the scope’s length',
    query: v.object({ ...scoped, zone: GivenZone }),
    response: Activity,
  }),
  groupChanges: route({
    method: 'GET',
    path: '/changes/groups',
    needs: 'changes.read',
    summary: 'Counts in a scope by day, actor or record type',
    query: v.object({
      ...scoped,
      zone: GivenZone,
      by: v.picklist(['day', 'actor', 'type']),
      before: v.optional(GivenDay),
    }),
    response: v.object({ groups: v.array(Group), more: v.boolean() }),
  }),
  listRecords: route({
    method: 'GET',
    path: '/changes/records',
    needs: 'changes.read',
    summary: 'Records in a scope with their counts',
    query: v.object({
      ...scoped,
      order: v.optional(v.picklist(['latest', 'most']), 'latest'),
      page: v.optional(IntParam, '0'),
    }),
    response: v.object({ records: v.array(RecordLine), more: v.boolean() }),
  }),
  readPairs: route({
    method: 'GET',
    path: '/changes/pairs',
    needs: 'changes.read',
    summary: 'Who changed what: saves by actor and record type, with what is usual',
    query: v.object(scoped),
    response: Pairs,
  }),
  markSaves: route({
    method: 'POST',
    path: '/changes/marks',
    needs: 'changes.mark',
    summary: 'Mark saves as reviewed or flagged, or take the mark off',
    body: v.strictObject({
      saveIds: v.pipe(v.array(SaveId), v.minLength(1), v.maxLength(5000)),
      mark: v.picklist(['reviewed', 'flagged']),
      on: v.boolean(),
    }),
    response: v.object({ marked: v.number() }),
  }),
  listScopes: route({
    method: 'GET',
    path: '/scopes',
    needs: 'changes.read',
    summary: 'Named scopes: one’s own and those that others share',
    response: v.object({ scopes: v.array(NamedScope) }),
  }),
  nameScope: route({
    method: 'POST',
    path: '/scopes',
    needs: 'changes.read',
    summary: 'Keep a scope under a name; the same name again replaces it',
    body: NewScope,
    response: NamedScope,
  }),
  removeScope: route({
    method: 'DELETE',
    path: '/scopes/:scopeId',
    needs: 'changes.read',
    summary: 'Remove one’s own named scope',
    params: v.object({ scopeId: IntParam }),
    response: v.object({ scopeId: v.number() }),
  }),
}
