import { fieldPlan, guardsOf, rulesOf } from '@spoor/core'
import type { GuardBody, Obstacle, SourceMap, TrackedField, TrackedType } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import type { Source, Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { readRates, type Rates } from './activity.ts'
import { unseenPerDay } from './blind-spots.ts'
import { draftShown, planInForce, type InForce } from './plan-store.ts'
import { latestProof } from './proof.ts'

const freshMs = 20_000

/** One source as the map shows it. The source is looked at again when the last look is some seconds old. */
export async function sourceMap(db: Database, sources: Sources, source: Source): Promise<SourceMap> {
  const obstacle = await lookIfStale(db, sources, source.id)
  const inForce = await planInForce(db, source.id)
  const row = await db('spoor.source').where({ id: source.id }).first<{ looked_at: string | null }>('looked_at')
  const logins = await db('spoor.source_login')
    .where({ source_id: source.id, may_declare: true, own: false })
    .orderBy('login')
    .select<{ login: string }[]>('login')
  return {
    id: source.id,
    name: source.name,
    address: await sources.address(source.id),
    declaringLogins: logins.map((login) => login.login),
    obstacle,
    lookedAt: row.looked_at,
    planVersion: inForce.version,
    inForceSince: inForce.since,
    secondPerson: inForce.plan.secondPerson ?? false,
    correctionsAbove: inForce.plan.correctionsAbove ?? null,
    proof: await latestProof(db, source.id),
    types: await trackedTypes(db, source.id, inForce, await readRates(db, source.id)),
    draft: await draftShown(db, source.id),
  }
}

async function lookIfStale(db: Database, sources: Sources, sourceId: number): Promise<Obstacle | null> {
  const row = await db('spoor.source').where({ id: sourceId }).first<{ looked_at: string | null }>('looked_at')
  if (row.looked_at && Date.now() - Date.parse(row.looked_at) < freshMs) return null
  try {
    await sources.refresh(sourceId)
    return null
  } catch (error) {
    if (!isUnreachable(error)) throw error
    return unreachable(error)
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
  label_columns: string[]
  page_pattern: string | null
  parent_type_id: number | null
  parent_columns: string[] | null
  effective_field_id: number | null
  foreign_keys: { columns: string[]; toTypeId: number; required: boolean }[]
}

interface FieldRow {
  id: number
  type_id: number
  name: string
  column_name: string
  data_type: string
  comment: string | null
  part_of_key: boolean
  generated: boolean
  tracked_since: string | null
  unseen_at: string | null
  refers_to: number | null
}

const unseenForMs = 28 * 86_400_000

async function trackedTypes(db: Database, sourceId: number, { plan }: InForce, rates: Rates): Promise<TrackedType[]> {
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
  const byType = new Map<number, FieldRow[]>()
  for (const field of fields) {
    const group = byType.get(field.type_id)
    if (group) group.push(field)
    else byType.set(field.type_id, [field])
  }
  return types.map((type): TrackedType => {
    const own = byType.get(type.id) ?? []
    const idsOf = (columns: readonly string[]) =>
      columns.flatMap((column) => own.find((field) => field.column_name === column)?.id ?? [])
    const tracked = plan.types[type.id] !== undefined
    const unseen = unseenPerDay(rates, type.id)
    const shown = own.map((field): TrackedField => {
      const kept = fieldPlan(plan, type.id, field.id)
      return {
        id: field.id,
        name: field.name,
        column: field.column_name,
        dataType: field.data_type,
        comment: field.comment,
        partOfKey: field.part_of_key,
        generated: field.generated,
        keep: kept?.keep ?? 'off',
        masked: kept?.masked ?? false,
        sensitive: kept?.sensitive ?? false,
        reason: kept?.reason ?? 'never',
        derivedFrom: [...(kept?.derivedFrom ?? [])],
        lock: kept?.lock ?? null,
        trackedSince: field.tracked_since,
        unseen:
          kept === undefined && field.unseen_at !== null && Date.now() - Date.parse(field.unseen_at) < unseenForMs,
        refersTo: field.refers_to,
      }
    })
    return {
      id: type.id,
      name: type.name,
      plural: type.plural,
      area: type.area,
      schema: type.schema_name,
      table: type.table_name,
      comment: type.comment,
      obstacle: type.obstacle,
      ...rulesOf(plan, type.id),
      labelFields: idsOf(type.label_columns),
      parent:
        type.parent_type_id === null
          ? null
          : { typeId: type.parent_type_id, fieldIds: idsOf(type.parent_columns ?? []) },
      effectiveFieldId: type.effective_field_id,
      pagePattern: type.page_pattern,
      possibleParents: type.foreign_keys
        .filter((key) => key.required && key.toTypeId !== type.id)
        .map((key) => ({ typeId: key.toTypeId, fieldIds: idsOf(key.columns) })),
      savesPerDay: tracked ? (rates.saves.get(type.id) ?? 0) : null,
      unseenPerDay: tracked && !shown.some((field) => field.unseen) ? (unseen === null ? null : 0) : unseen,
      fields: shown,
      guards: [...guardsOf(plan, type.id)].map(([id, guard]) => ({ id, guard: guard as GuardBody })),
    }
  })
}
