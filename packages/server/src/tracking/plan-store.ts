import {
  editsBetween,
  emptyPlan,
  isFieldEdit,
  isGuardEdit,
  isPlanRuleEdit,
  lockWords,
  planTroubles,
  troubleWords,
  withEdits,
  type GuardEdit,
  type PlanEdit,
  type TrackingPlan,
} from '@spoor/core'
import type { Draft } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { guardGround, guardTypes, whyNotAsked } from './guards.ts'

export interface InForce {
  version: number
  plan: TrackingPlan
  since: string | null
}

export async function planInForce(db: Knex, sourceId: number): Promise<InForce> {
  const row = await db('spoor.plan_version')
    .where({ source_id: sourceId, state: 'in force' })
    .first<{ version: number; plan: TrackingPlan; put_at: string } | undefined>('version', 'plan', 'put_at')
  return row
    ? { version: row.version, plan: row.plan, since: row.put_at }
    : { version: 0, plan: emptyPlan, since: null }
}

export interface StoredDraft {
  revision: number
  edits: PlanEdit[]
  proposed_by: number | null
  proposed_reason: string | null
}

export async function readDraft(db: Knex, sourceId: number, lock = false): Promise<StoredDraft> {
  const query = db('spoor.plan_draft').where({ source_id: sourceId })
  const row = await (lock ? query.forUpdate() : query).first<StoredDraft | undefined>(
    'revision',
    'edits',
    'proposed_by',
    'proposed_reason',
  )
  if (!row) throw new Problem('not-found', 'There is no such source.')
  return row
}

/** A day as plans count them: of UTC. */
export function today(): string {
  return new Date().toISOString().slice(0, 10)
}

/**
 * Replaces the draft, unless somebody else did since the given revision. Edits that change nothing are dropped, and a
 * proposal is taken back with the draft it was made of. `typed` holds what the person typed to confirm locks.
 */
export async function stageDraft(
  db: Database,
  sourceId: number,
  revision: number,
  edits: readonly PlanEdit[],
  personId: number,
  typed: readonly string[] = [],
): Promise<void> {
  await db.transaction(async (trx) => {
    const draft = await readDraft(trx, sourceId, true)
    demandRevision(draft, revision)
    await demandKnown(trx, sourceId, edits)
    const { plan } = await planInForce(trx, sourceId)
    await demandSound(trx, plan, withEdits(plan, edits), edits)
    demandLockWords(draft.edits, edits, typed)
    const kept = editsBetween(plan, withEdits(plan, edits))
    await trx('spoor.plan_draft')
      .where({ source_id: sourceId })
      .update({
        revision: revision + 1,
        edits: JSON.stringify(kept),
        edited_by: personId,
        edited_at: trx.fn.now(),
        ...notProposed,
      })
  })
}

/** What a draft's row says when nobody is asked to put it in force. */
export const notProposed = {
  proposed_by: null,
  proposed_at: null,
  proposed_reason: null,
  sent_back_by: null,
  sent_back_at: null,
  sent_back_why: null,
}

/** Asks a second person to put the draft in force. */
export async function proposeDraft(
  db: Database,
  sourceId: number,
  revision: number,
  reason: string,
  personId: number,
): Promise<void> {
  await db.transaction(async (trx) => {
    const draft = await readDraft(trx, sourceId, true)
    demandRevision(draft, revision)
    if (draft.edits.length === 0) throw new Problem('draft-empty', 'Nothing is staged, so there is nothing to propose.')
    await trx('spoor.plan_draft')
      .where({ source_id: sourceId })
      .update({ ...notProposed, proposed_by: personId, proposed_at: trx.fn.now(), proposed_reason: reason })
  })
}

/** Gives a proposed draft back with words; it stays as it is. */
export async function sendDraftBack(
  db: Database,
  sourceId: number,
  revision: number,
  why: string,
  personId: number,
): Promise<void> {
  await db.transaction(async (trx) => {
    const draft = await readDraft(trx, sourceId, true)
    demandRevision(draft, revision)
    if (draft.proposed_by === null)
      throw new Problem('second-person', 'The draft is not proposed, so it cannot be sent back.')
    await trx('spoor.plan_draft')
      .where({ source_id: sourceId })
      .update({ ...notProposed, sent_back_by: personId, sent_back_at: trx.fn.now(), sent_back_why: why })
  })
}

export async function draftShown(db: Database, sourceId: number): Promise<Draft> {
  const row = await db('spoor.plan_draft as d')
    .leftJoin('spoor.person as p', 'p.id', 'd.edited_by')
    .leftJoin('spoor.person as q', 'q.id', 'd.proposed_by')
    .leftJoin('spoor.person as r', 'r.id', 'd.sent_back_by')
    .where('d.source_id', sourceId)
    .first('d.*', 'p.name as by', 'q.name as proposer', 'r.name as sender')
  if (!row) throw new Problem('not-found', 'There is no such source.')
  return {
    revision: row.revision,
    edits: row.edits,
    by: row.by,
    at: row.edited_at,
    proposed:
      row.proposed_by === null
        ? null
        : { by: row.proposer, byId: row.proposed_by, at: row.proposed_at, reason: row.proposed_reason },
    sentBack: row.sent_back_by === null ? null : { by: row.sender, at: row.sent_back_at, why: row.sent_back_why },
  }
}

export function demandRevision(draft: StoredDraft, revision: number): void {
  if (draft.revision === revision) return
  throw new Problem(
    'draft-moved',
    'Somebody else changed the draft while you did. Their draft is kept and yours was not stored; look at theirs and make your change again.',
  )
}

async function demandKnown(db: Knex, sourceId: number, edits: readonly PlanEdit[]): Promise<void> {
  const known = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where('t.source_id', sourceId)
    .select<
      {
        id: number
        type_id: number
        name: string
        names: boolean
        obstacle: { words: string } | null
      }[]
    >('f.id', 'f.type_id', 'f.name', 't.obstacle', db.raw('t.label_columns @> to_jsonb(f.column_name) as names'))
  const byId = new Map(known.map((field) => [field.id, field]))
  const typeIds = new Set(known.map((field) => field.type_id))
  for (const edit of edits)
    if (!isPlanRuleEdit(edit) && !typeIds.has(edit.typeId))
      throw new Problem(
        'field-untrackable',
        `There is no record type ${edit.typeId} in this source. The draft is as it was.`,
      )
  for (const edit of edits.filter(isFieldEdit)) {
    const field = byId.get(edit.fieldId)
    if (!field || field.type_id !== edit.typeId)
      throw new Problem(
        'field-untrackable',
        `There is no field ${edit.fieldId} in record type ${edit.typeId} of this source. The draft is as it was.`,
      )
    if (field.names && edit.masked)
      throw new Problem(
        'plan-contradicts',
        `${field.name} is by what a record is called, so masking it would hide nothing. Have records named by another field first. The draft is as it was.`,
      )
    if (field.obstacle && edit.keep !== undefined && edit.keep !== 'off')
      throw new Problem('field-untrackable', `${field.obstacle.words} The draft is as it was.`)
  }
  await demandGuards(db, sourceId, edits.filter(isGuardEdit))
}

/** @throws Problem where a guard has another's number, or asks what cannot be answered */
async function demandGuards(db: Knex, sourceId: number, edits: readonly GuardEdit[]): Promise<void> {
  if (edits.length === 0) return
  const numbered = await guardTypes(db, sourceId)
  const [ground, nameOf] = [await guardGround(db, sourceId), await fieldNames(db)]
  for (const { typeId, guardId, guard } of edits) {
    if (numbered.get(guardId) !== typeId)
      throw new Problem('plan-contradicts', `There is no guard ${guardId} of this record type. The draft is as it was.`)
    const trouble = guard && whyNotAsked(ground, typeId, guard, nameOf)
    if (trouble) throw new Problem('plan-contradicts', `The guard “${guard.name}” ${trouble}. The draft is as it was.`)
  }
}

/** @throws Problem naming everything in which the plan contradicts itself or a lock. */
export async function demandSound(
  db: Knex,
  from: TrackingPlan,
  to: TrackingPlan,
  edits: readonly PlanEdit[],
): Promise<void> {
  const troubles = await troublesOf(db, from, to, edits)
  if (troubles.length > 0)
    throw new Problem(
      'plan-contradicts',
      `${troubles.slice(0, 10).join(' ')}${troubles.length > 10 ? ` And ${troubles.length - 10} more.` : ''} The draft is as it was.`,
    )
}

/** What is wrong with a plan, in words. */
export async function troublesOf(
  db: Knex,
  from: TrackingPlan,
  to: TrackingPlan,
  edits: readonly PlanEdit[],
): Promise<string[]> {
  const troubles = planTroubles(from, to, edits, today())
  if (troubles.length === 0) return []
  const nameOf = await fieldNames(db)
  return troubles.map((trouble) => troubleWords(trouble, nameOf))
}

/** Names of all fields with their type: "deposit of tenancies". */
export async function fieldNames(db: Knex): Promise<(fieldId: number) => string> {
  const rows = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .select<{ id: number; name: string; plural: string }[]>('f.id', 'f.name', 't.plural')
  const names = new Map(rows.map((row) => [row.id, `${row.name} of ${row.plural}`]))
  return (id) => names.get(id) ?? `field ${id}`
}

/** A lock that was not staged before must have been confirmed by typing what it means. */
function demandLockWords(before: readonly PlanEdit[], edits: readonly PlanEdit[], typed: readonly string[]): void {
  const staged = new Set(before.filter(isFieldEdit).map((edit) => `${edit.fieldId} ${JSON.stringify(edit.lock)}`))
  for (const edit of edits.filter(isFieldEdit)) {
    if (!edit.lock || staged.has(`${edit.fieldId} ${JSON.stringify(edit.lock)}`)) continue
    const words = lockWords(edit.lock)
    if (!typed.some((text) => text.trim().toLowerCase() === words.toLowerCase()))
      throw new Problem('lock-not-confirmed', `Type “${words}” to confirm the lock. The draft is as it was.`)
  }
}
