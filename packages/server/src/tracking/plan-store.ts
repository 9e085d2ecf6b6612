import { createHash } from 'node:crypto'
import {
  comparePlans,
  editsBetween,
  emptyPlan,
  isFieldEdit,
  keepOf,
  rulesOf,
  withEdits,
  type FieldEdit,
  type PlanEdit,
  type TrackingPlan,
} from '@spoor/core'
import type { Knex } from 'knex'
import { readTriggers } from '../capture/attest.ts'
import type { CapturedTable } from '../capture/generate.ts'
import { readHead } from '../collector/outbox.ts'
import { installCapture, installationSql, installedVersion, type Installation } from '../capture/install.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { DiscoveredTable } from '../sources/discover.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'

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
}

export async function readDraft(db: Knex, sourceId: number, lock = false): Promise<StoredDraft> {
  const query = db('spoor.plan_draft').where({ source_id: sourceId })
  const row = await (lock ? query.forUpdate() : query).first<StoredDraft | undefined>('revision', 'edits')
  if (!row) throw new Problem('not-found', 'There is no such source.')
  return row
}

/** Replaces the draft, unless somebody else did since the given revision. Edits that change nothing are dropped. */
export async function stageDraft(
  db: Database,
  sourceId: number,
  revision: number,
  edits: readonly PlanEdit[],
  personId: number,
): Promise<void> {
  await db.transaction(async (trx) => {
    demandRevision(await readDraft(trx, sourceId, true), revision)
    await demandKnown(trx, sourceId, edits)
    const { plan } = await planInForce(trx, sourceId)
    const kept = editsBetween(plan, withEdits(plan, edits))
    await trx('spoor.plan_draft')
      .where({ source_id: sourceId })
      .update({ revision: revision + 1, edits: JSON.stringify(kept), edited_by: personId, edited_at: trx.fn.now() })
  })
}

function demandRevision(draft: StoredDraft, revision: number): void {
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
    .select<{ id: number; type_id: number; obstacle: { words: string } | null }[]>('f.id', 'f.type_id', 't.obstacle')
  const byId = new Map(known.map((field) => [field.id, field]))
  for (const edit of edits.filter(isFieldEdit)) {
    const field = byId.get(edit.fieldId)
    if (!field || field.type_id !== edit.typeId)
      throw new Problem(
        'field-untrackable',
        `There is no field ${edit.fieldId} in record type ${edit.typeId} of this source. The draft is as it was.`,
      )
    if (field.obstacle && edit.keep !== 'off')
      throw new Problem('field-untrackable', `${field.obstacle.words} The draft is as it was.`)
  }
}

/** The SQL that putting the draft in force would run. */
export async function previewDraft(db: Database, sources: Sources, sourceId: number): Promise<string> {
  const tables = await refreshed(sources, sourceId)
  const draft = await readDraft(db, sourceId)
  const { version, plan } = await planInForce(db, sourceId)
  return installationSql(await installation(db, sourceId, tables, plan, withEdits(plan, draft.edits), version + 1))
}

async function refreshed(sources: Sources, sourceId: number): Promise<DiscoveredTable[]> {
  try {
    return await sources.refresh(sourceId)
  } catch (error) {
    if (isUnreachable(error)) throw new Problem('source-unreachable', `${unreachable(error).words} The draft is kept.`)
    throw error
  }
}

interface TypeRow {
  id: number
  relation_id: string
  name: string
  schema_name: string
  table_name: string
  key_columns: string[]
  label_columns: string[]
  obstacle: { words: string; remedy: string | null } | null
}

async function installation(
  db: Knex,
  sourceId: number,
  tables: readonly DiscoveredTable[],
  from: TrackingPlan,
  to: TrackingPlan,
  planVersion: number,
): Promise<Installation> {
  const types = await db('spoor.record_type').where({ source_id: sourceId }).select<TypeRow[]>('*')
  const byRelation = new Map(tables.map((table) => [String(table.relationId), table]))
  const byId = new Map(types.map((type) => [String(type.id), type]))
  const fieldRows = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where('t.source_id', sourceId)
    .select<{ id: number; attribute_number: number }[]>('f.id', 'f.attribute_number')
  const attributeOf = new Map(fieldRows.map((field) => [String(field.id), field.attribute_number]))

  const install: CapturedTable[] = Object.entries(to.types).flatMap(([typeId, typePlan]) => {
    const type = byId.get(typeId)
    const table = type && byRelation.get(type.relation_id)
    // What is not in the source any more cannot be captured; its coverage ends when that is noticed.
    if (!type || !table) return []
    if (table.obstacle)
      throw new Problem(
        'field-untrackable',
        table.obstacle.words,
        table.obstacle.remedy ? { remedy: table.obstacle.remedy } : {},
      )
    const named = (names: readonly string[]) =>
      names.flatMap((name) => table.columns.filter((column) => column.name === name))
    const captured: CapturedTable = {
      typeId: type.id,
      relationId: table.relationId,
      schema: table.schema,
      table: table.table,
      descendants: table.descendants,
      keyColumns: named(table.keyColumns),
      labelColumns: named(type.label_columns),
      reason: typePlan.reason ?? 'never',
      fields: Object.entries(typePlan.fields).flatMap(([fieldId, { keep }]) => {
        const column = table.columns.find((c) => c.attributeNumber === attributeOf.get(fieldId))
        if (!column) return []
        return [{ ...column, fieldId: Number(fieldId), keep }]
      }),
    }
    return captured.fields.length > 0 ? [captured] : []
  })
  const remove = Object.keys(from.types)
    .filter((typeId) => !to.types[typeId])
    .flatMap((typeId) => {
      const type = byId.get(typeId)
      const table = type && byRelation.get(type.relation_id)
      return type && table
        ? [{ typeId: type.id, schema: table.schema, table: table.table, descendants: table.descendants }]
        : []
    })
  return { planVersion, install, remove }
}

/**
 * Puts the draft in force: written down as being installed, installed in the source in one transaction, then
 * written down as in force with the coverage it begins and ends. A stop in between is settled by
 * {@link settleInstallations}.
 * @returns the new plan version.
 */
export async function putInForce(
  db: Database,
  sources: Sources,
  sourceId: number,
  revision: number,
  reason: string,
  personId: number,
): Promise<number> {
  const tables = await refreshed(sources, sourceId)
  return await installPlan(
    { db, sources, sourceId, tables, reason, personId, clearsDraft: true },
    async (trx, plan) => {
      const draft = await readDraft(trx, sourceId, true)
      demandRevision(draft, revision)
      return withEdits(plan, draft.edits)
    },
  )
}

interface PlanInstallation {
  db: Database
  sources: Sources
  sourceId: number
  tables: readonly DiscoveredTable[]
  reason: string
  /** Null when the plan's own rules ask for it. */
  personId: number | null
  clearsDraft: boolean
}

async function installPlan(
  { db, sources, sourceId, tables, reason, personId, clearsDraft }: PlanInstallation,
  nextPlan: (trx: Knex.Transaction, plan: TrackingPlan) => Promise<TrackingPlan>,
): Promise<number> {
  const begun = await db.transaction(async (trx) => {
    await trx('spoor.plan_draft').where({ source_id: sourceId }).forUpdate()
    const { version, plan } = await planInForce(trx, sourceId)
    const next = await nextPlan(trx, plan)
    if (editsBetween(plan, next).length === 0)
      throw new Problem('draft-empty', 'The draft changes nothing, so there is nothing to put in force.')
    const latest = await trx('spoor.plan_version')
      .where({ source_id: sourceId })
      .max<{ max: number | null }[]>('version')
    const installing = await trx('spoor.plan_version').where({ source_id: sourceId, state: 'installing' }).first()
    if (installing)
      throw new Problem(
        'source-busy',
        'Another plan is being put in force in this source at this moment. The draft is kept; try again in a minute.',
      )
    const planVersion = Math.max(version, latest[0]?.max ?? 0) + 1
    const work = await installation(trx, sourceId, tables, plan, next, planVersion)
    await trx('spoor.plan_version').insert({
      source_id: sourceId,
      version: planVersion,
      plan: JSON.stringify(next),
      state: 'installing',
      reason,
      put_by: personId,
    })
    return { work, planVersion }
  })
  const key = { source_id: sourceId, version: begun.planVersion }
  const source = await sources.connection(sourceId)
  const { rows } = await source
    .raw<{ rows: { now: string }[] }>('select clock_timestamp() as now')
    .catch(async (error: unknown) => {
      await db('spoor.plan_version').where(key).update({ state: 'refused' })
      throw isUnreachable(error)
        ? new Problem('source-unreachable', `${unreachable(error).words} The draft is kept.`)
        : error
    })
  try {
    const since = await installCapture(source, begun.work)
    await conclude(db, source, sourceId, begun.planVersion, rows[0]!.now, since, clearsDraft)
    await db('spoor.plan_version')
      .where(key)
      .update({ fitted: digestOf(begun.work) })
  } catch (error) {
    if (error instanceof Problem) await db('spoor.plan_version').where(key).update({ state: 'refused' })
    throw error
  }
  return begun.planVersion
}

function digestOf(work: Installation): string {
  return createHash('sha256').update(installationSql(work)).digest('hex')
}

/**
 * Fits the capture to tables that have changed their shape since the plan was put in force: columns that were
 * renamed or retyped go on, coverage of dropped ones ends, and new ones are tracked where the plan says so. Until
 * then the triggers help themselves. To be called while the triggers are those that were installed.
 */
export async function refitCapture(db: Database, sources: Sources, sourceId: number): Promise<void> {
  const tables = await sources.refresh(sourceId)
  const { version, plan, since } = await planInForce(db, sourceId)
  if (version === 0) return
  const added = await newColumns(db, plan, since!)
  if (added.length > 0) {
    const reason = 'New columns, tracked at once as the plan says'
    await installPlan(
      { db, sources, sourceId, tables, reason, personId: null, clearsDraft: false },
      async (_trx, now) => withEdits(now, added),
    )
    return
  }
  const row = await db('spoor.plan_version')
    .where({ source_id: sourceId, version })
    .first<{ fitted: string | null }>('fitted')
  const work = await installation(db, sourceId, tables, plan, plan, version)
  const fitted = digestOf(work)
  if (row.fitted === fitted) return
  const source = await sources.connection(sourceId)
  if (row.fitted !== null) await installCapture(source, work)
  const { rows } = await source.raw<{ rows: { now: string }[] }>('select clock_timestamp() as now')
  await db.transaction(async (trx) => {
    await trx('spoor.plan_version')
      .where({ source_id: sourceId, version })
      .update({ fitted, installed: JSON.stringify(await readTriggers(source)) })
    await trx('spoor.coverage')
      .whereNull('to_at')
      .whereIn(
        'field_id',
        trx('spoor.field as f')
          .join('spoor.record_type as t', 't.id', 'f.type_id')
          .where('t.source_id', sourceId)
          .where((q) => q.where({ 'f.present': false }).orWhere({ 't.present': false }))
          .select('f.id'),
      ) // prettier-ignore
      .update({ to_at: rows[0]!.now, ended_because: 'the column is not in the source any more' })
  })
}

/** Columns that were added to tracked tables since, where the plan wants them tracked. */
async function newColumns(db: Database, plan: TrackingPlan, since: string): Promise<FieldEdit[]> {
  const wanting = Object.keys(plan.types).filter((typeId) => rulesOf(plan, Number(typeId)).newColumns === 'track')
  if (wanting.length === 0) return []
  const rows = await db('spoor.field')
    .whereIn('type_id', wanting)
    .where({ present: true })
    .where('first_seen_at', '>', since)
    .select<{ id: number; type_id: number }[]>('id', 'type_id')
  return rows
    .filter((row) => keepOf(plan, row.type_id, row.id) === 'off')
    .map((row) => ({ typeId: row.type_id, fieldId: row.id, keep: 'values' }))
}

/** Coverage of what went off ends before the installation began; of what came on begins after it was committed. */
async function conclude(
  db: Database,
  source: Database,
  sourceId: number,
  version: number,
  endedAt: string,
  beganAt: string,
  clearsDraft: boolean,
): Promise<void> {
  const installed = await readTriggers(source)
  const epoch = (await readHead(source))?.epoch ?? null
  await db.transaction(async (trx) => {
    await readDraft(trx, sourceId, true)
    const { plan: before } = await planInForce(trx, sourceId)
    const row = await trx('spoor.plan_version')
      .where({ source_id: sourceId, version })
      .first<{ plan: TrackingPlan }>('plan')
    await trx('spoor.plan_version').where({ source_id: sourceId, state: 'in force' }).update({ state: 'superseded' })
    await trx('spoor.plan_version')
      .where({ source_id: sourceId, version })
      .update({ state: 'in force', put_at: beganAt, installed: JSON.stringify(installed) })
    for (const { fieldId, to } of comparePlans(before, row.plan)) {
      await trx('spoor.coverage')
        .where({ field_id: fieldId, to_at: null })
        .update({
          to_at: endedAt,
          ended_because: to === 'off' ? 'switched off in the tracking plan' : 'kept another way from then on',
        })
      if (to !== 'off') await trx('spoor.coverage').insert({ field_id: fieldId, keep: to, from_at: beganAt })
    }
    await adoptEpoch(trx, sourceId, epoch)
    if (!clearsDraft) return
    await trx('spoor.plan_draft')
      .where({ source_id: sourceId })
      .update({ edits: '[]', revision: trx.raw('revision + 1'), edited_by: null, edited_at: null })
  })
}

/** A capture that was made anew numbers its rows from the beginning. */
async function adoptEpoch(trx: Knex.Transaction, sourceId: number, epoch: string | null): Promise<void> {
  const before = await trx('spoor.source').where({ id: sourceId }).first<{ epoch: string | null }>('epoch')
  if (before.epoch === epoch) return
  await trx('spoor.source').where({ id: sourceId }).update({ epoch })
  await trx('ledger.collector_state')
    .where({ source_id: sourceId })
    .update({ high_seq: 0, last_at: null, batches: trx.raw('batches + 1') })
  await trx('spoor.alarm')
    .where({ source_id: sourceId, kind: 'source-replaced', settled_at: null })
    .update({ settled_at: trx.fn.now() })
}

/**
 * At start: a plan that was being installed when the server stopped is in force if the source says so, and was
 * refused otherwise.
 * @returns what was found, in words, for the log.
 */
export async function settleInstallations(db: Database, sources: Sources): Promise<string[]> {
  const pending = await db('spoor.plan_version')
    .where({ state: 'installing' })
    .select<{ source_id: number; version: number; put_at: string }[]>('source_id', 'version', 'put_at')
  const found: string[] = []
  for (const { source_id: sourceId, version, put_at: begunAt } of pending) {
    try {
      const source = await sources.connection(sourceId)
      if ((await installedVersion(source)) === version) {
        const { rows } = await source.raw<{ rows: { now: string }[] }>('select clock_timestamp() as now')
        await conclude(db, source, sourceId, version, begunAt, rows[0]!.now, true)
        found.push(`plan ${version} had been installed before the stop and is in force`)
      } else {
        await db('spoor.plan_version').where({ source_id: sourceId, version }).update({ state: 'refused' })
        found.push(`plan ${version} had not been installed before the stop; its draft is kept`)
      }
    } catch (error) {
      if (!isUnreachable(error)) throw error
      found.push(`plan ${version} was being installed at the stop and its source cannot be reached yet`)
    }
  }
  return found
}
