import type { Proof, ProofHead } from '@spoor/contract'
import { emptyPlan, valueKind } from '@spoor/core'
import type { Knex } from 'knex'
import { qualified, type CapturedField, type CapturedTable } from '../capture/table.ts'
import { overAlarms } from '../alarms/alarms.ts'
import { plainQuery } from '../database/plain.ts'
import { quoteIdentifier as id, quoteLiteral } from '../database/identifier.ts'
import type { Database } from '../database/knex.ts'
import { errorCode, Problem } from '../errors.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { installation, refreshed } from './capture-plan.ts'
import { planInForce } from './plan-store.ts'

type Outcome = { outcome: 'recorded' | 'missed' | 'untried'; words: string }

/** Ends a trial: its transaction is rolled back, whatever was written in it. */
class Over extends Error {}

/** Constraints and business rules that say no to one value may say yes to another. */
const candidatesFor: Readonly<Partial<Record<ReturnType<typeof valueKind>, readonly string[]>>> = {
  number: ['%c + 1', '%c - 1', '%c / 2', '1'],
  text: [`%c || 'x'`, `'x'`, `left(%c, -1)`],
  boolean: ['not %c', 'true'],
  date: ['%c + 1', '%c - 1', 'current_date'],
  time: [`%c + interval '1 minute'`],
  timestamp: [`%c + interval '1 minute'`, 'now()'],
  set: [`'{}'`, '%c || %c'],
  json: [`'{"spoor": true}'`, `'[]'`],
  binary: [`%c || '\\x00'::bytea`, `'\\x01'`],
}

/**
 * Changes every tracked field for real, one after another in transactions that are rolled back, and looks whether an
 * entry appears. Values come from other rows where there are some, since those keep the business's own rules.
 */
export async function prove(db: Database, sources: Sources, sourceId: number, personId: number): Promise<Proof> {
  const tables = await refreshed(sources, sourceId)
  const { plan, version } = await planInForce(db, sourceId)
  if (version === 0) throw new Problem('draft-empty', 'No plan is in force yet, so there is nothing to prove.')
  const { install } = await installation(db, sourceId, tables, emptyPlan, plan, version)
  const source = await sources.connection(sourceId)
  const fields: Proof['fields'] = []
  for (const table of install) {
    const outcomes = await reaching(() => proveTable(source, table))
    for (const field of table.fields)
      fields.push({ typeId: table.typeId, fieldId: field.fieldId, ...outcomes.get(field.fieldId)! })
  }
  const proven = new Set(fields.map((field) => field.fieldId))
  for (const [typeId, type] of Object.entries(plan.types))
    for (const fieldId of Object.keys(type.fields).map(Number))
      if (!proven.has(fieldId))
        fields.push({ typeId: Number(typeId), fieldId, outcome: 'missed', words: 'It is not in the source any more.' })
  const proofId = await db.transaction(async (trx) => {
    const [row] = await trx('spoor.proof')
      .insert({ source_id: sourceId, plan_version: version, by: personId })
      .returning<{ id: number }[]>('id')
    const rows = fields.map(({ typeId, fieldId, ...outcome }) => ({
      proof_id: row!.id,
      type_id: typeId,
      field_id: fieldId,
      ...outcome,
    }))
    await trx.batchInsert('spoor.proof_field', rows, 500)
    if (fields.every((field) => field.outcome === 'recorded')) await overAlarms(trx, sourceId, 'capture-untried')
    return row!.id
  })
  return await readProof(db, proofId)
}

async function reaching<T>(work: () => Promise<T>): Promise<T> {
  try {
    return await work()
  } catch (error) {
    if (isUnreachable(error))
      throw new Problem(
        'source-unreachable',
        `${unreachable(error).words} The proof was given up; nothing of it is kept.`,
      )
    throw error
  }
}

async function proveTable(source: Database, table: CapturedTable): Promise<Map<number, Outcome>> {
  const outcomes = new Map<number, Outcome>()
  try {
    await source.transaction(async (trx) => {
      await plainQuery(trx, `set local lock_timeout = '500ms'; set local statement_timeout = '5s'`)
      await plainQuery(
        trx,
        `select spoor_capture.context(actor => 'Spoor', channel => 'proof', reason => 'proof that it records'),
                set_config('spoor.proving', 'yes', true)`,
      )
      await proveFields(trx, table, outcomes)
      throw new Over()
    })
  } catch (error) {
    if (!(error instanceof Over)) {
      if (isUnreachable(error) || errorCode(error) === undefined) throw error
      const words = `The source answered: ${(error as Error).message}.`
      for (const field of table.fields)
        if (!outcomes.has(field.fieldId)) outcomes.set(field.fieldId, { outcome: 'untried', words })
    }
  }
  return outcomes
}

async function proveFields(trx: Knex.Transaction, table: CapturedTable, outcomes: Map<number, Outcome>): Promise<void> {
  const seenAlong = new Set<number>()
  for (const field of table.fields) {
    const { outcome, seen } = await proveField(trx, table, field)
    outcomes.set(field.fieldId, outcome)
    for (const fieldId of seen) seenAlong.add(fieldId)
  }
  const open = table.fields.filter((field) => outcomes.get(field.fieldId)!.outcome === 'untried')
  const deleted = open.length > 0 ? await seenByDeleting(trx, table) : new Set<number>()
  for (const { fieldId } of open) {
    if (seenAlong.has(fieldId))
      outcomes.set(fieldId, {
        outcome: 'recorded',
        words: 'An entry appeared when other fields of the row were changed.',
      })
    else if (deleted.has(fieldId))
      outcomes.set(fieldId, { outcome: 'recorded', words: 'An entry appeared when a row was deleted.' })
  }
}

interface Tried {
  outcome: Outcome
  /** Fields of which an entry appeared. */
  seen: ReadonlySet<number>
}

/** Tries values until the source accepts one, each in a savepoint of its own. */
async function proveField(trx: Knex.Transaction, table: CapturedTable, field: CapturedField): Promise<Tried> {
  const nothing = new Set<number>()
  let refusal = 'there is no row to change'
  for (const expression of [...candidates(table, field), ...(await allowedValues(trx, table, field)), 'null']) {
    const tried = await inSavepoint(trx, async () => {
      const column = id(field.name)
      const rows = await plainQuery<{ differs: boolean }>(
        trx,
        `with one as (select ctid as place, ${column} as was from ${qualified(table)} limit 1 for update),
              written as (update ${qualified(table)} t set ${column} = ${expression.replaceAll('%c', `t.${column}`)} from one where t.ctid = one.place
                          returning t.${column}::text is distinct from one.was::text as differs)
         select differs from written`,
      )
      return { rows, seen: await fieldsSeen(trx, table) }
    })
    if (typeof tried === 'string') {
      refusal = `the source refused every value that was tried: ${tried}`
      continue
    }
    if (tried.rows.length === 0)
      return { outcome: { outcome: 'untried', words: `It could not be tried: ${refusal}.` }, seen: nothing }
    if (tried.seen.has(field.fieldId))
      return { outcome: { outcome: 'recorded', words: 'An entry appeared when it was changed.' }, seen: tried.seen }
    if (tried.rows[0]!.differs)
      return { outcome: { outcome: 'missed', words: 'It was changed and no entry appeared.' }, seen: tried.seen }
    refusal = 'the source’s own rules put back every value that was tried'
  }
  return { outcome: { outcome: 'untried', words: `It could not be tried: ${refusal}.` }, seen: nothing }
}

function candidates(table: CapturedTable, field: CapturedField): string[] {
  const column = id(field.name)
  const other = `(select o.${column} from ${qualified(table)} o where o.${column}::text is distinct from t.${column}::text limit 1)`
  // What another row holds keeps the rules most likely. A subquery that finds nothing gives NULL.
  return [other, ...(candidatesFor[valueKind(field.baseType)] ?? [])]
}

/** Values that the source's own rules name for a column: the labels of its enum, the literals of its checks. */
async function allowedValues(trx: Knex.Transaction, table: CapturedTable, field: CapturedField): Promise<string[]> {
  const rows = await plainQuery<{ labels: string[]; checks: string[] }>(
    trx,
    `select array(select e.enumlabel::text from pg_enum e where e.enumtypid = a.atttypid order by e.enumsortorder) as labels,
            array(select pg_get_constraintdef(c.oid) from pg_constraint c where c.contype = 'c'
                   and ((c.conrelid = a.attrelid and a.attnum = any(c.conkey)) or c.contypid = a.atttypid)) as checks
       from pg_attribute a where a.attrelid = $1 and a.attnum = $2`,
    [table.relationId, field.attributeNumber],
  )
  const literals = (rows[0]?.checks ?? []).flatMap((check) =>
    [...check.matchAll(/'((?:[^']|'')*)'/g)].map((match) => match[1]!.replaceAll("''", "'")),
  )
  return [...new Set([...(rows[0]?.labels ?? []), ...literals])].slice(0, 20).map(quoteLiteral)
}

async function seenByDeleting(trx: Knex.Transaction, table: CapturedTable): Promise<ReadonlySet<number>> {
  const seen = await inSavepoint(trx, async () => {
    await plainQuery(trx, `delete from ${qualified(table)} where ctid = (select ctid from ${qualified(table)} limit 1)`)
    return await fieldsSeen(trx, table)
  })
  return typeof seen === 'string' ? new Set() : seen
}

/** Fields of the type of which this transaction's newest entries speak. */
async function fieldsSeen(trx: Knex.Transaction, table: CapturedTable): Promise<ReadonlySet<number>> {
  const rows = await plainQuery<{ field: string }>(
    trx,
    `select distinct json_object_keys(delta::json) as field from (
       select delta, type_id, transaction_id from spoor_capture.outbox order by seq desc limit 200) newest
      where transaction_id = pg_current_xact_id() and type_id = ${table.typeId}`,
  )
  return new Set(rows.map((row) => Number(row.field)))
}

/** @returns what the work gave, or the source's words when it refused; the transaction stands as before either way. */
async function inSavepoint<T extends object>(trx: Knex.Transaction, work: () => Promise<T>): Promise<T | string> {
  await plainQuery(trx, 'savepoint tried')
  try {
    return await work()
  } catch (error) {
    if (isUnreachable(error) || errorCode(error) === undefined) throw error
    return (error as Error).message
  } finally {
    await plainQuery(trx, 'rollback to savepoint tried')
  }
}

const headColumns = (db: Knex) =>
  db('spoor.proof as p')
    .join('spoor.person as w', 'w.id', 'p.by')
    .select('p.id', 'p.at', 'w.name as by', 'p.plan_version as planVersion')
    .select(
      ...(['recorded', 'missed', 'untried'] as const).map((outcome) =>
        db.raw('(select count(*)::int from spoor.proof_field f where f.proof_id = p.id and f.outcome = ?) as ??', [
          outcome,
          outcome,
        ]),
      ),
    )

export async function latestProof(db: Database, sourceId: number): Promise<ProofHead | null> {
  const row = await headColumns(db).where('p.source_id', sourceId).orderBy('p.id', 'desc').first()
  return (row as ProofHead | undefined) ?? null
}

export async function readProof(db: Database, proofId: number): Promise<Proof> {
  const head = (await headColumns(db).where('p.id', proofId).first()) as ProofHead | undefined
  if (!head) throw new Problem('not-found', 'There is no such proof.')
  const fields = await db('spoor.proof_field')
    .where({ proof_id: proofId })
    .orderByRaw(`outcome = 'recorded', type_id, field_id`)
    .select<Proof['fields']>('type_id as typeId', 'field_id as fieldId', 'outcome', 'words')
  return { ...head, fields }
}
