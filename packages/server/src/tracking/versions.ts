import {
  editsBetween,
  emptyPlan,
  planFromFile,
  planLines,
  planToFile,
  withEdits,
  type PlanFile,
  type PlanLine,
  type Guard,
  type PlanRegister,
  type TrackingPlan,
  type TypePlan,
} from '@spoor/core'
import type { DryRun, PlanVersion } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { guardTypes, newGuard } from './guards.ts'
import { fieldNames, planInForce, troublesOf } from './plan-store.ts'

interface VersionRow {
  version: number
  state: PlanVersion['state']
  reason: string
  by: string | null
  approver: string | null
  put_at: string
  plan: TrackingPlan
}

/** The versions of a source's plan, newest first, each with what it changed. */
export async function listVersions(db: Database, sourceId: number): Promise<PlanVersion[]> {
  const rows = await db('spoor.plan_version as v')
    .leftJoin('spoor.person as p', 'p.id', 'v.put_by')
    .leftJoin('spoor.person as a', 'a.id', 'v.approved_by')
    .where('v.source_id', sourceId)
    .orderBy('v.version')
    .select<VersionRow[]>('v.*', 'p.name as by', 'a.name as approver')
  const nameOf = await fieldNames(db)
  let before: TrackingPlan = emptyPlan
  return rows
    .map((row): PlanVersion => {
      const lines = planLines(before, row.plan, nameOf)
      if (row.state === 'in force' || row.state === 'superseded') before = row.plan
      return {
        version: row.version,
        state: row.state,
        reason: row.reason,
        by: row.by,
        approvedBy: row.approver,
        at: row.put_at,
        lines,
      }
    })
    .reverse()
}

async function planOf(db: Database, sourceId: number, version: number): Promise<TrackingPlan> {
  if (version === 0) return emptyPlan
  const row = await db('spoor.plan_version')
    .where({ source_id: sourceId, version })
    .first<{ plan: TrackingPlan } | undefined>('plan')
  if (!row) throw new Problem('not-found', `There is no version ${version} of this plan.`)
  return row.plan
}

export async function compareVersions(db: Database, sourceId: number, from: number, to: number): Promise<PlanLine[]> {
  const [before, after] = await Promise.all([planOf(db, sourceId, from), planOf(db, sourceId, to)])
  return planLines(before, after, await fieldNames(db))
}

/** What making a plan of the one in force would change, and what is in its way. Nothing is staged. */
async function dryRun(
  db: Database,
  sourceId: number,
  to: TrackingPlan,
): Promise<Omit<DryRun, 'source' | 'planVersion' | 'unknown'>> {
  const { plan } = await planInForce(db, sourceId)
  const edits = editsBetween(plan, to)
  const [troubles, nameOf] = [await troublesOf(db, plan, withEdits(plan, edits), edits), await fieldNames(db)]
  return { lines: planLines(plan, to, nameOf), edits, troubles }
}

export async function returnToVersion(db: Database, sourceId: number, version: number): Promise<DryRun> {
  const run = await dryRun(db, sourceId, await planOf(db, sourceId, version))
  return { ...run, source: null, planVersion: version, unknown: [] }
}

async function readRegister(db: Database, sourceId: number): Promise<PlanRegister> {
  const { rows } = await db.raw<{ rows: PlanRegister['types'][number][] }>(
    `select t.id, t.schema_name as schema, t.table_name as "table",
            json_agg(json_build_object('id', f.id, 'column', f.column_name) order by f.attribute_number) as fields
       from spoor.record_type t join spoor.field f on f.type_id = t.id and f.present
      where t.source_id = ? and t.present group by t.id order by t.schema_name, t.table_name`,
    [sourceId],
  )
  return { types: rows }
}

export async function writePlanFile(db: Database, sourceId: number, version: number | undefined): Promise<PlanFile> {
  const source = await db('spoor.source').where({ id: sourceId }).first<{ name: string } | undefined>('name')
  if (!source) throw new Problem('not-found', 'There is no such source.')
  const inForce = await planInForce(db, sourceId)
  const number = version ?? inForce.version
  return planToFile(await planOf(db, sourceId, number), await readRegister(db, sourceId), source.name, number)
}

/** What a plan file would change here. Names that the source does not have are listed and left out of the edits. */
export async function readPlanFile(db: Database, sourceId: number, file: PlanFile, personId: number): Promise<DryRun> {
  const { plan, unknown } = planFromFile(file, await readRegister(db, sourceId))
  const run = await dryRun(db, sourceId, await withOwnGuards(db, sourceId, plan, personId))
  return {
    ...run,
    source: file.source,
    planVersion: file.planVersion,
    unknown: unknown.map(({ schema, table, column }) =>
      column === null ? `the table ${schema}.${table}` : `the column ${column} of ${schema}.${table}`,
    ),
  }
}

/** The same plan, its guards numbered as those of this source are: a file may be of another. */
async function withOwnGuards(
  db: Database,
  sourceId: number,
  plan: TrackingPlan,
  personId: number,
): Promise<TrackingPlan> {
  const own = await guardTypes(db, sourceId)
  const types: Record<string, TypePlan> = {}
  for (const [typeId, type] of Object.entries(plan.types)) {
    const guards: Record<string, Guard> = {}
    for (const [guardId, guard] of Object.entries(type.guards ?? {})) {
      const isOwn = own.get(Number(guardId)) === Number(typeId)
      guards[isOwn ? guardId : await newGuard(db, Number(typeId), personId)] = guard
    }
    types[typeId] = { ...type, ...(Object.keys(guards).length > 0 ? { guards } : {}) }
  }
  return { ...plan, types }
}
