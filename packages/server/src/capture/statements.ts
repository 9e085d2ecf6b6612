import { quoteIdentifier as id } from '../database/identifier.ts'
import { isComposed, type CapturedColumn, type CapturedField, type CapturedTable, type CaptureEvent } from './table.ts'
import { allOf, op, together, ValueText, type RowOf } from './value-text.ts'

/**
 * The columns of the outbox that a trigger writes. Every name in generated SQL that stands beside columns of the
 * business is one that no column can take: rows are read through a list that calls each column by its number.
 */
const outboxColumns =
  'captured_at, type_id, plan_version, action, key, key_before, parent_key, label, delta, context, login, application_name, client_address'

/** What the context of a captured row is, read where it is written: what was said, the login, the application, the address. */
export const contextHere = [
  `pg_catalog.current_setting('spoor.context', true)`,
  'session_user',
  `pg_catalog.current_setting('application_name', true)`,
  'pg_catalog.host(pg_catalog.inet_client_addr())',
].join(', ')

type Action = 'create' | 'change' | 'delete'

/** A row whose columns are called by their numbers. */
export const numbered =
  (row: string): RowOf =>
  ({ attributeNumber }) =>
    `${row}.c${attributeNumber}`

/** A row of the table itself. */
export const named =
  (row: string): RowOf =>
  ({ name }) =>
    `${row}.${id(name)}`

/** The expressions and statements that tell what became of rows of one table. */
export class Statements {
  readonly #table: CapturedTable
  readonly #planVersion: number
  readonly #texts: ValueText
  readonly #salt: string
  readonly #context: string

  /**
   * `shifted`: columns may be of any type by now; `salt` is the expression that holds the source's salt; `context` those
   * that hold the context, where it was read before.
   */
  constructor(
    table: CapturedTable,
    planVersion: number,
    { shifted, salt, context = contextHere }: { shifted: boolean; salt: string; context?: string },
  ) {
    this.#table = table
    this.#planVersion = planVersion
    this.#texts = new ValueText({ shifted })
    this.#salt = salt
    this.#context = context
  }

  key(row: RowOf): string {
    const { keyColumns } = this.#table
    return this.#texts.list(
      keyColumns,
      keyColumns.map((column) => this.#texts.text(column, row)),
    )
  }

  keyDiffers(o: RowOf, n: RowOf): string {
    return `(${this.#table.keyColumns.map((column) => this.#texts.differs(column, o, n)).join(' or ')})`
  }

  /** Whether there is anything to tell of a row: a value, or its key where that is not tracked itself. */
  moved(o: RowOf, n: RowOf): string {
    const { fields, keyColumns } = this.#table
    const tracked = new Set(fields.map((field) => field.attributeNumber))
    const untracked = keyColumns.filter((column) => !tracked.has(column.attributeNumber))
    const differs = [...fields, ...untracked].map((column) => this.#texts.differs(column, o, n))
    return `(${differs.join(' or ')})`
  }

  anyDiffers(o: RowOf, n: RowOf): string {
    return `(${this.#table.fields.map((field) => this.#texts.differs(field, o, n)).join(' or ')})`
  }

  /** For each field whether it has something to tell, and the pair that tells it, `"7":["a","b"]`. */
  pairs(action: Action, o: RowOf, n: RowOf): { when: string; pair: string }[] {
    return this.#table.fields.map((field) => {
      const [before, after] = [this.#kept(field, o), this.#kept(field, n)]
      const pair = (texts: readonly string[]) => together(`'"${field.fieldId}":'`, this.#texts.list([field], texts))
      if (action === 'create') return { when: this.#texts.isNotNull(field, n), pair: pair(['null', after]) }
      if (action === 'delete') return { when: this.#texts.isNotNull(field, o), pair: pair([before, 'null']) }
      return { when: this.#texts.differs(field, o, n), pair: pair([before, after]) }
    })
  }

  /** An outbox row as a list of expressions; `row` names the record: as it is afterwards, or was at the last. */
  values(
    action: Action,
    row: RowOf,
    { at, key, keyBefore, delta }: Record<'at' | 'key' | 'keyBefore' | 'delta', string>,
  ): string {
    return `${at}, ${this.#table.typeId}, ${this.#planVersion}, '${action}', ${key}, ${keyBefore}, ${this.#parent(row)}, ${this.#label(row)},
      ${delta},
      ${this.#context}${isComposed(this.#table) ? `, ${this.#labelOf(row)}` : ''}`
  }

  insert(source: string): string {
    return `insert into spoor_capture.outbox (${outboxColumns}${isComposed(this.#table) ? ', label_of' : ''})
    ${source}`
  }

  /**
   * One statement that tells of many rows. `from` are the places the rows are read from, each a select list's
   * continuation; `list` is the columns by number.
   */
  ofMany(event: Exclude<CaptureEvent, 'truncate'>, at: string, from: { o: string; n: string }): string {
    const [o, n] = [numbered('o'), numbered('n')]
    if (event === 'update')
      return this.#insertMany(
        'change',
        n,
        at,
        `case when ${this.keyDiffers(o, n)} then ${this.key(o)} end`,
        `
    from (select pg_catalog.row_number() over () as place, ${from.o}) o
    full join (select pg_catalog.row_number() over () as place, ${from.n}) n on n.place ${op.equals} o.place
   where ${this.moved(o, n)}`,
      )
    if (event === 'insert') return this.#insertMany('create', n, at, 'null', `\n    from (select ${from.n}) n`)
    return this.#insertMany('delete', o, at, 'null', `\n    from (select ${from.o}) o`)
  }

  /**
   * The same of an update whose rows are told apart by their keys, which is quicker; a row without a partner had its key
   * changed and only leaves a mark in `spoor.key_changed`. FULL JOIN, because an inner join is planned for the first,
   * small statement of a session as a nested loop and kept.
   */
  ofManyByKey(at: string, from: { o: string; n: string }): string {
    const [o, n] = [numbered('o'), numbered('n')]
    const keys = this.#table.keyColumns
    const same = keys.map(
      (column) => `${this.#texts.comparable(column, n)} ${op.equals} ${this.#texts.comparable(column, o)}`,
    )
    const alone = `${o(keys[0]!)} is null or ${n(keys[0]!)} is null`
    return this.#insertMany(
      'change',
      n,
      at,
      'null',
      `
    from (select ${from.o}) o full join (select ${from.n}) n on ${same.join(' and ')}
   where case when ${alone} then pg_catalog.set_config('spoor.key_changed', 'yes', true) is null else ${this.anyDiffers(o, n)} end`,
    )
  }

  /**
   * Of an update that took rows of a partitioned table from one partition towards another, where they did not arrive:
   * what is missing afterwards is gone, and rows are told apart by their keys.
   */
  ofUnequal(at: string, from: { o: string; n: string }): string[] {
    const [o, n] = [numbered('o'), numbered('n')]
    const key = (row: RowOf, side: string) => `select ${this.key(row)} as key, ${side}.*`
    const sides = `(${key(numbered('x'), 'x')} from (select ${from.o}) x) o full join (${key(numbered('x'), 'x')} from (select ${from.n}) x) n on n.key ${op.equals} o.key`
    return [
      this.#insertMany(
        'change',
        n,
        at,
        'null',
        `\n    from ${sides}\n   where o.key is not null and n.key is not null and ${this.anyDiffers(o, n)}`,
      ),
      this.#insertMany('delete', o, at, 'null', `\n    from ${sides}\n   where n.key is null`),
      this.#insertMany('create', n, at, 'null', `\n    from ${sides}\n   where o.key is null`),
    ]
  }

  #insertMany(action: Action, row: RowOf, at: string, keyBefore: string, rest: string): string {
    const [o, n] = [numbered('o'), numbered('n')]
    const told = this.pairs(action, o, n).map(({ when, pair }) => `case when ${when} then ${together(`','`, pair)} end`)
    const delta = together(`'{'`, `pg_catalog.substr(${allOf(told)}, 2)`, `'}'`)
    return this.insert(`select ${this.values(action, row, { at, key: this.key(row), keyBefore, delta })}${rest}`)
  }

  /** A condition on `x`, a row of the table, that its key is the one written in `$1`. */
  hasKey(): string {
    const row = named('x')
    const { keyColumns } = this.#table
    const parts = keyColumns.map((column, at) => {
      const wanted = `($1::pg_catalog.json operator(pg_catalog.->>) ${at})`
      const own = /^(int[248]|uuid|oid|date)$/.test(column.baseType)
      return own
        ? `${row(column)} = ${wanted}::pg_catalog.${column.baseType}`
        : `(${this.#texts.text(column, row)}) collate pg_catalog."C" = ${wanted}`
    })
    return parts.join(' and ')
  }

  /** What is read of a row `x` that is there: its key, its label and what that is made of, its parent's key, its values as a JSON array. */
  held(): string {
    const row = named('x')
    const kept = this.#table.fields.map((field) => this.#kept(field, row))
    return `${this.key(row)} as key, ${this.#label(row)} as label, ${isComposed(this.#table) ? this.#labelOf(row) : 'null'} as label_of, ${this.#parent(row)} as parent_key, pg_catalog.to_json(array[${kept.join(', ')}]::pg_catalog.text[])::pg_catalog.text as vals`
  }

  #parent(row: RowOf): string {
    const { parentColumns } = this.#table
    if (parentColumns.length === 0) return 'null'
    return this.#texts.list(
      parentColumns,
      parentColumns.map((column) => this.#texts.text(column, row)),
    )
  }

  #label(row: RowOf): string {
    const { labelColumns, keyColumns } = this.#table
    const label = labelColumns.length > 0 ? labelColumns : keyColumns
    return `pg_catalog.concat_ws(' · ', ${label.map((column) => this.#texts.text(column, row)).join(', ')})`
  }

  /** {@link LabelParts} as JSON. */
  #labelOf(row: RowOf): string {
    const { labelColumns } = this.#table
    const refersTo = JSON.stringify(labelColumns.map((column) => column.refersTo ?? null))
    const parts = this.#texts.list(
      labelColumns,
      labelColumns.map((column) => this.#texts.text(column, row)),
    )
    return together(`'{"refersTo":${refersTo},"parts":'`, parts, `'}'`)
  }

  #kept(field: CapturedField, row: RowOf): string {
    const text = this.#texts.text(field, row)
    // What is NULL stays NULL: a fingerprint of nothing would say that there is something.
    if (field.keep === 'values') return text
    return `pg_catalog.encode(pg_catalog.sha256(pg_catalog.convert_to(${together(this.#salt, text)}, 'UTF8')), 'hex')`
  }
}

/** The columns that triggers read, each called by its number, of a row `x`. */
export function numberedList(columns: readonly CapturedColumn[]): string {
  return columns.map((column) => `${named('x')(column)} as c${column.attributeNumber}`).join(', ')
}
