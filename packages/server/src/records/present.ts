import type { PresentRecord } from '@spoor/contract'
import { keepOf } from '@spoor/core'
import { maskedFields } from '../ledger/masked.ts'
import { readRows } from '../corrections/source-writer.ts'
import { writableTables } from '../corrections/tables.ts'
import { instantText, type Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { errorCode, Problem } from '../errors.ts'
import { discover } from '../sources/discover.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { planInForce } from '../tracking/plan-store.ts'
import { valueLength } from './story.ts'
import { threadOf } from '../ledger/thread.ts'

/**
 * What the source holds of a record under its present key, and whether that can be held against the trail: row and outbox
 * are read as of one moment, and the ledger only after them, so that a change is seen in at least one of both.
 * @throws Problem when the record's table or its source cannot be read
 */
export async function presentOf(db: Database, sources: Sources, typeId: number, key: string): Promise<PresentRecord> {
  const type = await db('spoor.record_type').where({ id: typeId }).first<{ source_id: number } | undefined>('source_id')
  if (!type) throw new Problem('not-found', 'There is no such record type.')
  try {
    return await readPresent(db, sources, type.source_id, typeId, key)
  } catch (error) {
    if (isUnreachable(error))
      throw new Problem(
        'source-unreachable',
        `${unreachable(error).words} What the trail has of the record is not touched by that.`,
      )
    // A key that is no value of its column, as somebody may type it.
    if (errorCode(error)?.startsWith('22')) throw new Problem('not-found', 'No record can have such a key.')
    throw error
  }
}

async function readPresent(
  db: Database,
  sources: Sources,
  sourceId: number,
  typeId: number,
  key: string,
): Promise<PresentRecord> {
  const source = await sources.connection(sourceId)
  const table = (await writableTables(db, await discover(source), [typeId])).get(typeId)
  if (!table || !isKeyOf(key, table.key.length))
    throw new Problem('not-found', 'The source has no table for this record any more.')
  const { plan } = await planInForce(db, sourceId)
  const masked = await maskedFields(db)
  const keys = (await threadOf(db, typeId, key)).map((span) => span.key)
  const erased = new Set(
    await db('ledger.change')
      .where({ type_id: typeId, erased: true })
      .whereIn('record_key', keys)
      .distinct()
      .pluck<number[]>('field_id'),
  )
  const fields = [...table.fields.values()].filter(
    ({ fieldId }) => keepOf(plan, typeId, fieldId) === 'values' && !masked.has(fieldId) && !erased.has(fieldId),
  )
  const read = await source.transaction(async (trx) => {
    await plainQuery(trx, 'set transaction isolation level repeatable read, read only')
    const [state] = await plainQuery<{ at: string; waiting: boolean }>(
      trx,
      `select clock_timestamp() as at, exists (select from spoor_capture.outbox where type_id = $1 and (key = $2 or key_before = $2)) as waiting`,
      [typeId, key],
    )
    return { state: state!, rows: await readRows(trx, table, fields, [key]) }
  })
  const held = read.rows.get(key)
  const last = await db('ledger.save')
    .where({ type_id: typeId, record_key: key })
    .max<{ max: string | null }[]>('id as max')
  return {
    at: instantText(String(read.state.at)),
    there: held !== undefined,
    waiting: read.state.waiting,
    lastSaveId: last[0]?.max ?? null,
    values: [...(held ?? [])].map(([fieldId, value]) => ({ fieldId, value: value?.slice(0, valueLength) ?? null })),
  }
}

/** Whether a key, which anybody may have typed, is made of as many texts as the table's key has columns. */
function isKeyOf(key: string, columns: number): boolean {
  try {
    const parts: unknown = JSON.parse(key)
    return Array.isArray(parts) && parts.length === columns && parts.every((part) => typeof part === 'string')
  } catch {
    return false
  }
}
