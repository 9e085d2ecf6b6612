import * as v from 'valibot'
import { Alarm } from './alarms.ts'
import { Instant, IntParam, SaveId, ScopeText, IdNumber } from './common.ts'
import { route } from './route.ts'

export const Seal = v.object({
  number: v.number(),
  at: Instant,
  /** Saves that it covers. */
  size: v.number(),
  /** How many of them the seal before did not. */
  added: v.number(),
  events: v.number(),
})
export type Seal = v.InferOutput<typeof Seal>

export const Check = v.object({
  id: v.number(),
  beganAt: Instant,
  endedAt: v.nullable(Instant),
  /** Null for one that Spoor began by itself. */
  by: v.nullable(v.string()),
  done: v.number(),
  total: v.number(),
  found: v.number(),
  /** Why it did not go to the end, if it did not. */
  trouble: v.nullable(v.string()),
})
export type Check = v.InferOutput<typeof Check>

export const Custody = v.object({
  saves: v.number(),
  /** Saves from before sealing began, which no seal covers. */
  before: v.number(),
  /** Saves that are not sealed yet. */
  open: v.number(),
  seals: v.number(),
  latest: v.nullable(v.object({ number: v.number(), at: Instant, size: v.number(), note: v.string() })),
  key: v.nullable(v.object({ line: v.string(), fingerprint: v.string(), since: Instant })),
  check: v.nullable(Check),
  /** The last one that went to the end. */
  lastWhole: v.nullable(Check),
  mismatches: v.array(Alarm),
  settled: v.number(),
})
export type Custody = v.InferOutput<typeof Custody>

/** Who is given seals: an authority stamps them, others keep them. */
export const Witness = v.object({
  id: v.number(),
  kind: v.picklist(['authority', 'folder', 'address', 'mail']),
  /** Where, as people read it. */
  place: v.string(),
  since: Instant,
  /** Since when it is not set any more. */
  endedAt: v.nullable(Instant),
  /** The latest seal that it took. */
  last: v.nullable(v.object({ number: v.number(), at: Instant, stamped: v.boolean() })),
  taken: v.number(),
  /** Why it took none at the last tries. */
  trouble: v.nullable(v.object({ words: v.string(), at: Instant, tries: v.number() })),
})
export type Witness = v.InferOutput<typeof Witness>

/** Where a save is in the ledger's tree, with all that proves it (docs/proof.md). */
export const Place = v.object({
  /** Null for a save from before sealing began. */
  index: v.nullable(v.number()),
  /** The save's canonical form as it is now. */
  canonical: v.string(),
  leaf: v.string(),
  /** The first seal that covers it; null until there is one. */
  seal: v.nullable(v.object({ number: v.number(), at: Instant, size: v.number(), note: v.string() })),
  /** Hashes from the leaf to the seal's root, in hexadecimal digits. */
  proof: v.array(v.string()),
  key: v.nullable(v.string()),
  /** What opens the commitments of values that may be shown. */
  openings: v.array(
    v.object({ fieldId: v.number(), salt: v.string(), before: v.nullable(v.string()), after: v.nullable(v.string()) }),
  ),
})
export type Place = v.InferOutput<typeof Place>

/** A wish that values of one field be erased, and what came of it. It takes a second person. */
export const Erasure = v.object({
  id: v.number(),
  saveId: SaveId,
  typeId: v.number(),
  label: v.string(),
  fieldId: v.number(),
  /** Just the change of that save, or every change of the field in the record's trail. */
  reach: v.picklist(['change', 'record']),
  /** Changes that it means now, or that were erased. */
  changes: v.number(),
  reason: v.string(),
  state: v.picklist(['waiting', 'erased', 'refused', 'withdrawn']),
  askedBy: v.string(),
  askedAt: Instant,
  decidedBy: v.nullable(v.string()),
  decidedAt: v.nullable(Instant),
  /** Why it was refused. */
  answer: v.nullable(v.string()),
  /** Whether the person who asks may decide: never the one who wished it. */
  mayDecide: v.boolean(),
  mayWithdraw: v.boolean(),
})
export type Erasure = v.InferOutput<typeof Erasure>

const Because = (words: string) => v.pipe(v.string(), v.trim(), v.minLength(10, words), v.maxLength(2000))
const erasureParams = v.object({ erasureId: IntParam })

export const custodyRoutes = {
  readCustody: route({
    method: 'GET',
    path: '/custody',
    needs: 'custody.read',
    summary: 'How the ledger is kept: seals, key, checks and what does not match',
    response: Custody,
  }),
  listSeals: route({
    method: 'GET',
    path: '/custody/seals',
    needs: 'custody.read',
    summary: 'Seals, newest first',
    query: v.object({ before: v.optional(IntParam) }),
    response: v.object({ seals: v.array(Seal), next: v.nullable(v.number()) }),
  }),
  listWitnesses: route({
    method: 'GET',
    path: '/custody/witnesses',
    needs: 'custody.read',
    summary: 'Who is given seals, and the last that each took',
    response: v.object({ witnesses: v.array(Witness) }),
  }),
  giveToWitnesses: route({
    method: 'POST',
    path: '/custody/witnesses/giving',
    needs: 'custody.check',
    summary: 'Give the latest seal to every witness without waiting for their time',
    response: v.object({ giving: v.literal(true) }),
  }),
  readSealStamp: route({
    method: 'GET',
    path: '/custody/seals/:sealNumber/stamp',
    needs: 'custody.read',
    summary: 'The time-stamp of a seal: the answer of the authority (RFC 3161)',
    params: v.object({ sealNumber: IntParam }),
  }),
  checkNow: route({
    method: 'POST',
    path: '/custody/checks',
    needs: 'custody.check',
    summary: 'Check the whole ledger now, or let a check that goes on hurry',
    response: v.object({ checking: v.literal(true) }),
  }),
  stopCheck: route({
    method: 'DELETE',
    path: '/custody/checks',
    needs: 'custody.check',
    summary: 'Stop the check that goes on',
    response: v.object({ stopping: v.literal(true) }),
  }),
  exportProved: route({
    method: 'GET',
    path: '/custody/proved.ndjson',
    needs: 'custody.read',
    summary:
      'The saves in a scope with what proves each against the latest seal, for spoor-verify; one JSON line a save',
    query: v.object({ scope: ScopeText }),
  }),
  listErasures: route({
    method: 'GET',
    path: '/erasures',
    needs: 'custody.read',
    summary: 'Erasures wished for and carried out, those that wait first; of one save when it is named',
    query: v.object({ save: v.optional(SaveId) }),
    response: v.object({ erasures: v.array(Erasure) }),
  }),
  erasureReach: route({
    method: 'GET',
    path: '/erasures/reach',
    needs: 'erasure.ask',
    summary: 'How many changes an erasure of a field would mean',
    query: v.object({ save: SaveId, field: IntParam }),
    response: v.object({ record: v.number() }),
  }),
  askErasure: route({
    method: 'POST',
    path: '/erasures',
    needs: 'erasure.ask',
    summary: 'Wish that values be erased; a second person decides',
    body: v.strictObject({
      saveId: SaveId,
      fieldId: IdNumber,
      reach: v.picklist(['change', 'record']),
      reason: Because('Say in a sentence what obliges you to erase it.'),
    }),
    response: Erasure,
  }),
  decideErasure: route({
    method: 'PUT',
    path: '/erasures/:erasureId',
    needs: 'erasure.decide',
    summary: 'Erase what was wished, for good, or refuse',
    params: erasureParams,
    body: v.variant('decision', [
      v.strictObject({ decision: v.literal('erase') }),
      v.strictObject({
        decision: v.literal('refuse'),
        answer: Because('Say in a sentence why it is not to be erased.'),
      }),
    ]),
    response: Erasure,
  }),
  withdrawErasure: route({
    method: 'DELETE',
    path: '/erasures/:erasureId',
    needs: 'erasure.ask',
    summary: 'Take one’s own wish back',
    params: erasureParams,
    response: Erasure,
  }),
  readPlace: route({
    method: 'GET',
    path: '/custody/saves/:saveId',
    needs: 'custody.read',
    summary: 'The place of a save in the ledger, with what proves it',
    params: v.object({ saveId: SaveId }),
    response: Place,
  }),
}
