import { createHash } from 'node:crypto'
import { guardsOf, reasonOf, rulesOf, withEdits, type TrackingPlan } from '@spoor/core'
import type { Knex } from 'knex'
import type { CapturedTable } from '../capture/table.ts'
import type { InstalledGuard } from '../capture/guards.ts'
import { installationSql, type Installation } from '../capture/install.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { DiscoveredTable } from '../sources/discover.ts'
import { knownAs, knownIdentities } from '../people/identities.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { guardGround, whyNotAsked } from './guards.ts'
import { planInForce, readDraft } from './plan-store.ts'

/** The SQL that putting the draft in force would run. */
export async function previewDraft(db: Database, sources: Sources, sourceId: number): Promise<string> {
  const tables = await refreshed(sources, sourceId)
  const draft = await readDraft(db, sourceId)
  const { version, plan } = await planInForce(db, sourceId)
  return installationSql(await installation(db, sourceId, tables, plan, withEdits(plan, draft.edits), version + 1))
}

/** The source as it is now. @throws Problem when it cannot be reached. */
export async function refreshed(sources: Sources, sourceId: number): Promise<DiscoveredTable[]> {
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
  parent_columns: string[] | null
  obstacle: { words: string; remedy: string | null } | null
}

interface FieldRow {
  id: number
  type_id: number
  attribute_number: number
  refers_to: number | null
}

/** What has to be installed and removed in a source to go from one plan to another. */
export async function installation(
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
    .select<FieldRow[]>('f.id', 'f.type_id', 'f.attribute_number', 'f.refers_to')
  const attributeOf = new Map(fieldRows.map((field) => [String(field.id), field.attribute_number]))

  const refersTo = new Map(fieldRows.map((field) => [`${field.type_id} ${field.attribute_number}`, field.refers_to]))

  const declaring = await db('spoor.source_login')
    .where({ source_id: sourceId, may_declare: true })
    .orderBy('login')
    .pluck<string[]>('login')
  const identities = await knownIdentities(db, sourceId)
  const ground = await guardGround(db, sourceId)
  /** Where a field stands that is not of a type but of the one whose lines it has; undefined where its table is gone. */
  const parentOf = (type: TypeRow, fieldId: number): InstalledGuard['parent'] | undefined => {
    const field = fieldRows.find((one) => one.id === fieldId)!
    if (field.type_id === type.id) return null
    const parent = byId.get(String(field.type_id))
    const table = parent && byRelation.get(parent.relation_id)
    const column = table?.columns.find((one) => one.attributeNumber === field.attribute_number)
    if (!table || !column) return undefined
    const keyColumns = table.keyColumns.flatMap((name) => table.columns.filter((one) => one.name === name))
    return { schema: table.schema, table: table.table, keyColumns, column }
  }
  /** What cannot be asked as the source is holds nothing; the list of guards says so. */
  const guardsFor = (type: TypeRow): InstalledGuard[] =>
    [...guardsOf(to, type.id)].flatMap(([guardId, guard]) => {
      if (whyNotAsked(ground, type.id, guard, String) !== null) return []
      const parent = guard.held ? parentOf(type, guard.held.fieldId) : null
      if (parent === undefined) return []
      return [{ guardId, guard, ...knownAs(guard.by?.actors ?? [], identities), parent }]
    })
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
    const rules = rulesOf(to, type.id)
    const captured: CapturedTable = {
      typeId: type.id,
      relationId: table.relationId,
      keyColumns: named(table.keyColumns),
      keyDeferrable: table.keyDeferrable,
      labelColumns: named(type.label_columns).map((column) => ({
        ...column,
        refersTo: refersTo.get(`${type.id} ${column.attributeNumber}`) ?? null,
      })),
      parentColumns: named(type.parent_columns ?? []),
      ...placesOf(table),
      nests: table.nests,
      reason: rules.reason,
      onFailure: rules.onFailure,
      guards: guardsFor(type),
      declaring,
      fields: Object.entries(typePlan.fields).flatMap(([fieldId, { keep }]) => {
        const column = table.columns.find((c) => c.attributeNumber === attributeOf.get(fieldId))
        if (!column) return []
        const needsReason = reasonOf(to, type.id, Number(fieldId)) === 'required'
        return [{ ...column, fieldId: Number(fieldId), keep, needsReason }]
      }),
    }
    return captured.fields.length > 0 ? [captured] : []
  })
  const remove = Object.keys(from.types)
    .filter((typeId) => !to.types[typeId])
    .flatMap((typeId) => {
      const type = byId.get(typeId)
      const table = type && byRelation.get(type.relation_id)
      return type && table ? [{ typeId: type.id, ...placesOf(table) }] : []
    })
  const setting = await db('spoor.setting').where({ name: 'installation' }).first<{ value: string }>('value')
  return { planVersion, owner: setting.value, install, remove }
}

const placesOf = ({ schema, table, descendants, ancestors, partitioned }: DiscoveredTable) => ({
  schema,
  table,
  descendants,
  ancestors,
  partitioned,
})

export function digestOf(work: Installation): string {
  return createHash('sha256').update(installationSql(work)).digest('hex')
}
