import { lockWords, type FieldEdit } from '@spoor/core'
import { putInForce, readDraft, stageDraft, type Database, type Sources } from '@spoor/server'
import type { RegisteredTable } from './load-outbox.ts'
import type { Incident } from './incident.ts'
import type { PlanSpell } from './load-outbox.ts'
import { fieldRules, fingerprintColumns, trackedColumns } from './tracked.ts'

export interface Registered {
  tables: Map<string, RegisteredTable>
  edits: FieldEdit[]
}

/** Looks Larkmere's tables up in Spoor's register, by `schema.table`. */
export async function readRegister(db: Database, sourceId: number): Promise<Registered> {
  const rows: {
    type_id: number
    name: string
    label_columns: string[]
    parent_columns: string[] | null
    field_id: number
    refers_to: number | null
    column_name: string
  }[] = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where({ 't.source_id': sourceId, 'f.present': true })
    .select(
      't.id as type_id',
      db.raw(`t.schema_name || '.' || t.table_name as name`),
      't.label_columns',
      't.parent_columns',
      'f.id as field_id',
      'f.column_name',
      'f.refers_to',
    )
  const tables: Registered['tables'] = new Map()
  const edits: Registered['edits'] = []
  for (const row of rows) {
    const table = tables.get(row.name) ?? {
      typeId: row.type_id,
      labelColumns: row.label_columns,
      refersTo: new Map<string, number>(),
      parentColumns: row.parent_columns ?? [],
      fieldIds: new Map<string, number>(),
    }
    if (row.refers_to !== null) table.refersTo.set(row.column_name, row.refers_to)
    tables.set(row.name, { ...table, fieldIds: new Map([...table.fieldIds, [row.column_name, row.field_id]]) })
    const wanted: readonly string[] = trackedColumns[row.name as keyof typeof trackedColumns] ?? []
    if (wanted.includes(row.column_name))
      edits.push({
        typeId: row.type_id,
        fieldId: row.field_id,
        keep: fingerprintColumns.has(`${row.name}.${row.column_name}`) ? 'fingerprint' : 'values',
      })
  }
  return { tables, edits: [...edits, ...ruleEdits(tables)] }
}

/** What is said of fields beyond that they are tracked. */
function ruleEdits(tables: Registered['tables']): FieldEdit[] {
  return Object.entries(fieldRules).map(([name, { lockedForGood, derivedFrom, ...rule }]): FieldEdit => {
    const [schema, table, column] = name.split('.') as [string, string, string]
    const { typeId, fieldIds } = tables.get(`${schema}.${table}`)!
    return {
      typeId,
      fieldId: fieldIds.get(column)!,
      ...rule,
      ...(derivedFrom ? { derivedFrom: derivedFrom.map((one) => fieldIds.get(one)!) } : {}),
      ...(lockedForGood ? { lock: { until: null } } : {}),
    }
  })
}

/**
 * Puts Larkmere's plan in force the way an administrator would, three times: all of it, deposit off, deposit on
 * again. Only then are the moments of these acts set back to where the history has them.
 */
export async function trackLarkmere(
  db: Database,
  owner: Database,
  sources: Sources,
  sourceId: number,
  person: Parameters<typeof putInForce>[5],
  from: string,
  gap: Incident,
): Promise<{ register: Registered; spells: PlanSpell[] }> {
  await sources.refresh(sourceId)
  const register = await readRegister(db, sourceId)
  const tenancy = register.tables.get('lettings.tenancy')!
  const deposit = tenancy.fieldIds.get('deposit')!
  const put = async (edits: Parameters<typeof stageDraft>[3], reason: string) => {
    const { revision } = await readDraft(db, sourceId)
    await stageDraft(db, sourceId, revision, edits, person.id, [lockWords({ until: null })])
    return await putInForce(db, sources, sourceId, revision + 1, reason, person)
  }
  const all = await put(register.edits, 'The fields the audit committee asked for')
  const off = await put([{ typeId: tenancy.typeId, fieldId: deposit, keep: 'off' }], 'Deposit scheme is being moved')
  const on = await put([{ typeId: tenancy.typeId, fieldId: deposit, keep: 'values' }], 'Deposit scheme has been moved')
  await owner.transaction(async (trx) => {
    for (const [version, moment] of [
      [all, from],
      [off, gap.from],
      [on, gap.until],
    ] as const)
      await trx('spoor.plan_version').where({ source_id: sourceId, version }).update({ put_at: moment })
    await trx('spoor.coverage').whereNotNull('to_at').update({ from_at: from, to_at: gap.from })
    await trx('spoor.coverage').whereNull('to_at').update({ from_at: from })
    await trx('spoor.coverage').whereNull('to_at').where({ field_id: deposit }).update({ from_at: gap.until })
  })
  const spells = [
    { fromMs: Date.parse(from), version: all },
    { fromMs: Date.parse(gap.from), version: off },
    { fromMs: Date.parse(gap.until), version: on },
  ]
  return { register, spells }
}
