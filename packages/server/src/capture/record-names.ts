import { composedLabel, groupBy, keyOfOne, namedBy, recordPlace, type LabelParts } from '@spoor/core'
import type { QueryResultRow } from 'pg'
import { quoteIdentifier as id } from '../database/identifier.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { calledNow, type RecordAt } from '../ledger/called.ts'
import { errorCode } from '../errors.ts'
import { isUnreachable } from '../sources/trouble.ts'
import type { Sources } from '../sources/registry.ts'
import { named } from './statements.ts'
import { qualified, type CapturedColumn } from './table.ts'
import { ValueText } from './value-text.ts'

/** For so long a record that was asked for is not asked for again: what it is called may have changed since. */
const askedForMs = 60 * 60 * 1000
const mostAsked = 200_000
/** A name is made of names of names at most so deep. */
const deepest = 2
const texts = new ValueText({ shifted: false })

interface TypeRow {
  id: number
  source_id: number
  schema_name: string
  table_name: string
  key_columns: string[]
  label_columns: string[]
  obstacle: unknown
}

interface ColumnRow {
  column_name: string
  attribute_number: number
  base_type: string
  refers_to: number | null
}

/**
 * What records are called. What the trail does not know is asked of the source once: a list that nobody tracks, a record
 * that has not been taken in yet. A source that does not answer keeps nobody waiting: the name stays as it is written.
 */
export class RecordNames {
  readonly #db: Database
  readonly #sources: Sources
  readonly #askedUntil = new Map<string, number>()
  readonly #pointing = new Map<number, { until: number; fields: ReadonlyMap<number, number> }>()

  constructor(db: Database, sources: Sources) {
    this.#db = db
    this.#sources = sources
  }

  /** By {@link recordPlace}. One that cannot be found out is not among them. */
  async of(records: readonly RecordAt[], depth = 0): Promise<Map<string, string>> {
    const wanted = [...new Map(records.map((one) => [recordPlace(one.typeId, one.key), one])).values()]
    const known = await calledNow(this.#db, wanted)
    const names = new Map([...known].map(([place, { label }]) => [place, label]))
    const unknown = wanted.filter((one) => {
      const met = known.get(recordPlace(one.typeId, one.key))
      return (!met || met.old) && this.#mayAsk(one)
    })
    for (const [typeId, some] of groupBy(unknown, (one) => one.typeId))
      for (const [place, label] of await this.#ask(typeId, some, depth)) names.set(place, label)
    return names
  }

  /**
   * Finds out what the records are called that values of a type's fields refer to, of types that were never taken in.
   * @param values by field
   */
  async learn(typeId: number, values: Iterable<readonly [fieldId: number, value: string]>): Promise<void> {
    const pointing = await this.#pointingFields(typeId)
    if (pointing.size === 0) return
    const places = new Map<string, RecordAt>()
    for (const [fieldId, value] of values) {
      const to = pointing.get(fieldId)
      if (to === undefined) continue
      const one = { typeId: to, key: keyOfOne(value) }
      const place = recordPlace(one.typeId, one.key)
      if (!((this.#askedUntil.get(place) ?? 0) > Date.now())) places.set(place, one)
    }
    if (places.size > 0) await this.of([...places.values()])
  }

  #mayAsk({ typeId, key }: RecordAt): boolean {
    const place = recordPlace(typeId, key)
    if ((this.#askedUntil.get(place) ?? 0) > Date.now()) return false
    if (this.#askedUntil.size >= mostAsked) this.#askedUntil.clear()
    this.#askedUntil.set(place, Date.now() + askedForMs)
    return true
  }

  /** Fields of a type that refer to records of types whose own are not in the trail, and to which. */
  async #pointingFields(typeId: number): Promise<ReadonlyMap<number, number>> {
    const known = this.#pointing.get(typeId)
    if (known && known.until > Date.now()) return known.fields
    const rows = await this.#db('spoor.field as f')
      .where({ 'f.type_id': typeId })
      .whereNotNull('f.refers_to')
      .whereNotExists((taken) => taken.from('spoor.taking as t').whereRaw('t.type_id = f.refers_to'))
      .select<{ id: number; refers_to: number }[]>('f.id', 'f.refers_to')
    const fields = new Map(rows.map((row) => [row.id, row.refers_to]))
    this.#pointing.set(typeId, { until: Date.now() + 60_000, fields })
    return fields
  }

  /** Reads what records are called at their source, and keeps it. @returns by place */
  async #ask(typeId: number, records: readonly RecordAt[], depth: number): Promise<Map<string, string>> {
    const type = await this.#db('spoor.record_type').where({ id: typeId }).first<TypeRow | undefined>('*')
    if (!type || type.key_columns.length !== 1 || type.obstacle) return new Map()
    const columns = await this.#db('spoor.field')
      .where({ type_id: typeId, present: true })
      .select<ColumnRow[]>('column_name', 'attribute_number', 'base_type', 'refers_to')
    const column = (name: string) => columns.find((one) => one.column_name === name)
    const key = column(type.key_columns[0]!)
    const parts = type.label_columns.flatMap((name) => column(name) ?? [])
    if (!key || parts.length === 0) return new Map()
    const row = named('x')
    const text = (one: ColumnRow) => texts.text(capturedColumn(one), row)
    const table = qualified({ schema: type.schema_name, table: type.table_name })
    const rows = await asked<{ key: string; parts: (string | null)[] }>(
      await this.#sources.connection(type.source_id),
      `select ${text(key)} as key, json_build_array(${parts.map(text).join(', ')}) as parts
         from ${table} x where x.${id(key.column_name)} = any($1)`,
      [records.map((one) => (JSON.parse(one.key) as string[])[0])],
    )
    const made = rows.map((one): { key: string; label: LabelParts } => ({
      key: keyOfOne(one.key),
      label: { parts: one.parts, refersTo: parts.map((part) => (depth < deepest ? part.refers_to : null)) },
    }))
    const others = await this.of(
      made.flatMap(({ label }) => namedBy(label)),
      depth + 1,
    )
    const called = made.map((one) => ({
      key: one.key,
      label: composedLabel(one.label, (to, other) => others.get(recordPlace(to, other))),
    }))
    await this.#db.raw(
      `insert into spoor.called (type_id, record_key, label)
       select ?, w.key, w.label from unnest(?::text[], ?::text[]) as w(key, label) order by w.key collate "C"
       on conflict (type_id, record_key) do update set label = excluded.label, read_at = now()`,
      [typeId, boundArray(called.map((one) => one.key)), boundArray(called.map((one) => one.label))],
    )
    return new Map(called.map((one) => [recordPlace(typeId, one.key), one.label]))
  }
}

function capturedColumn(column: ColumnRow): CapturedColumn {
  return {
    attributeNumber: column.attribute_number,
    name: column.column_name,
    typeId: 0,
    baseType: column.base_type,
    plainEquality: false,
  }
}

/** What a name is to be is no reason to keep a save waiting: a source that does not answer, or refuses, gives no rows. */
async function asked<R extends QueryResultRow>(source: Database, sql: string, values: unknown[]): Promise<R[]> {
  try {
    return await source.transaction(async (trx) => {
      await plainQuery(trx, 'set transaction read only')
      await plainQuery(
        trx,
        `set local row_security = off; set local search_path = pg_catalog, pg_temp; set local lock_timeout = '1s'; set local statement_timeout = '5s'`,
      )
      return await plainQuery<R>(trx, sql, values)
    })
  } catch (error) {
    if (isUnreachable(error) || errorCode(error) !== undefined) return []
    throw error
  }
}
