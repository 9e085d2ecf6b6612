import { Router } from 'express'
import { keepOf } from '@spoor/core'
import { routes, type Obstacle, type SourceMap, type TrackedType } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import type { Source, Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { planInForce, previewDraft, putInForce, stageDraft } from './plan-store.ts'

export interface TrackingDeps {
  db: Database
  sources: Sources
}

export function trackingRouter({ db, sources }: TrackingDeps): Router {
  const router = Router()

  bind(router, routes.readTracking, async () => {
    const list = await sources.list()
    return { sources: await Promise.all(list.map((source) => sourceMap(db, sources, source))) }
  })

  bind(router, routes.stageEdits, async ({ params, body, person }) => {
    await stageDraft(db, params.sourceId, body.revision, body.edits, person.id)
    return await draftShown(db, params.sourceId)
  })

  bind(router, routes.previewDraft, async ({ params }) => ({ sql: await previewDraft(db, sources, params.sourceId) }))

  bind(router, routes.putInForce, async ({ params, body, person }) => ({
    planVersion: await putInForce(db, sources, params.sourceId, body.revision, body.reason, person.id),
  }))

  return router
}

async function draftShown(db: Database, sourceId: number): Promise<SourceMap['draft']> {
  const row = await db('spoor.plan_draft as d')
    .leftJoin('spoor.person as p', 'p.id', 'd.edited_by')
    .where('d.source_id', sourceId)
    .first<SourceMap['draft']>('d.revision', 'd.edits', 'p.name as by', 'd.edited_at as at')
  return row
}

async function sourceMap(db: Database, sources: Sources, source: Source): Promise<SourceMap> {
  let obstacle: Obstacle | null = null
  try {
    await sources.refresh(source.id)
  } catch (error) {
    if (!isUnreachable(error)) throw error
    obstacle = unreachable(error)
  }
  const inForce = await planInForce(db, source.id)
  return {
    id: source.id,
    name: source.name,
    obstacle,
    planVersion: inForce.version,
    inForceSince: inForce.since,
    types: await trackedTypes(db, source.id, (typeId, fieldId) => keepOf(inForce.plan, typeId, fieldId)),
    draft: await draftShown(db, source.id),
  }
}

interface TypeRow {
  id: number
  name: string
  plural: string
  area: string
  schema_name: string
  table_name: string
  comment: string | null
  obstacle: Obstacle | null
}

interface FieldRow {
  id: number
  type_id: number
  name: string
  column_name: string
  data_type: string
  comment: string | null
  part_of_key: boolean
  tracked_since: string | null
}

async function trackedTypes(
  db: Database,
  sourceId: number,
  keep: (typeId: number, fieldId: number) => ReturnType<typeof keepOf>,
): Promise<TrackedType[]> {
  const types = await db('spoor.record_type')
    .where({ source_id: sourceId, present: true })
    .orderBy(['area', 'table_name'])
    .select<TypeRow[]>('*')
  const fields = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .leftJoin('spoor.coverage as c', (on) => on.on('c.field_id', 'f.id').andOnNull('c.to_at'))
    .where({ 't.source_id': sourceId, 't.present': true, 'f.present': true })
    .orderBy('f.attribute_number')
    .select<FieldRow[]>('f.*', 'c.from_at as tracked_since')
  const byType = groupByType(fields)
  return types.map((type) => ({
    id: type.id,
    name: type.name,
    plural: type.plural,
    area: type.area,
    schema: type.schema_name,
    table: type.table_name,
    comment: type.comment,
    obstacle: type.obstacle,
    fields: (byType.get(type.id) ?? []).map((field) => ({
      id: field.id,
      name: field.name,
      column: field.column_name,
      dataType: field.data_type,
      comment: field.comment,
      partOfKey: field.part_of_key,
      keep: keep(type.id, field.id),
      trackedSince: field.tracked_since,
    })),
  }))
}

function groupByType(fields: readonly FieldRow[]): Map<number, FieldRow[]> {
  const groups = new Map<number, FieldRow[]>()
  for (const field of fields) {
    const group = groups.get(field.type_id)
    if (group) group.push(field)
    else groups.set(field.type_id, [field])
  }
  return groups
}
