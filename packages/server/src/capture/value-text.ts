import { exactSettings } from '../database/knex.ts'
import type { CapturedColumn } from './table.ts'

/**
 * How generated SQL reads a value: as the text that its type's output function writes. The functions that read run
 * with the rights of Spoor's login, so nothing here may call what somebody else has made: casts only from types of
 * PostgreSQL's own, where nobody can add any, and `format`, which goes by the output function, for all others.
 */

/** Which settings decide how values of a type are written as text. */
const settingsOf: Readonly<Record<string, readonly (keyof typeof exactSettings)[]>> = {
  date: ['datestyle'],
  timestamp: ['datestyle'],
  timestamptz: ['datestyle', 'timezone'],
  interval: ['intervalstyle'],
  bytea: ['bytea_output'],
  float4: ['extra_float_digits'],
  float8: ['extra_float_digits'],
  money: ['lc_monetary'],
}

/** Types of PostgreSQL's own that hold no other type and whose text depends on no setting. */
const settled = new Set(
  'int2 int4 int8 numeric bool text varchar bpchar name uuid inet cidr macaddr json jsonb oid bit varbit tsvector'.split(
    ' ',
  ),
)

/** Types whose cast to text is PostgreSQL's own and writes what the output function writes. */
const castable = new Set(
  'int2 int4 int8 numeric float4 float8 oid text varchar name date time timetz timestamp timestamptz interval uuid bytea json jsonb'.split(
    ' ',
  ),
)

/** Types whose text never holds what JSON must escape, so that putting it in quotes is enough, and quicker. */
const unescaped = new Set('int2 int4 int8 oid numeric bool uuid date timestamp timestamptz float4 float8'.split(' '))

/** Types with a collation, under which two texts may be called equal that are not the same. */
const collated = new Set(['text', 'varchar', 'name'])

/** Operators by their full names: whoever writes may have put others of these names before PostgreSQL's own. */
export const op = {
  equals: 'operator(pg_catalog.=)',
  differs: 'operator(pg_catalog.<>)',
  join: 'operator(pg_catalog.||)',
} as const

/** Texts put together, none of which may be NULL. */
export function together(...texts: readonly string[]): string {
  return texts.join(` ${op.join} `)
}

/**
 * The settings under which values of some columns have one text form: those that they need, since each costs every
 * statement a little. A type that is not known here (a composite, an extension's) may hold any other and gets all.
 */
export function settingsFor(columns: readonly CapturedColumn[]): string[] {
  const all = Object.keys(exactSettings) as (keyof typeof exactSettings)[]
  const of = (baseType: string) => settingsOf[baseType] ?? (settled.has(baseType) ? [] : undefined)
  const known = columns.map(({ baseType }) => of(baseType) ?? of(baseType.replace(/^_/, '')))
  const needed = new Set(known.flatMap((names) => names ?? all))
  const settings = [...needed].map((name) => `set ${name} = '${exactSettings[name]}'`)
  // The name of a table or a type, as some types write it, has its schema where the search path does not lead to it.
  return known.includes(undefined) ? ['set search_path = pg_catalog, pg_temp', ...settings] : settings
}

/** How a value is reached: the expression of a column in a row. */
export type RowOf = (column: CapturedColumn) => string

function exact(text: string): string {
  return `((${text}) collate pg_catalog."C")`
}

/** IS DISTINCT FROM, which would take whatever `=` the writer's search path finds first. For values that are no rows. */
function distinct(a: string, b: string): string {
  return `coalesce(${a} ${op.differs} ${b}, (${a} is null) ${op.differs} (${b} is null))`
}

/** Expressions over values of columns whose types are known, or of columns that may have any type by now. */
export class ValueText {
  readonly #shifted: boolean
  constructor({ shifted }: { shifted: boolean }) {
    this.#shifted = shifted
  }

  /** The value as text; NULL of NULL. */
  text(column: CapturedColumn, row: RowOf): string {
    const value = row(column)
    if (this.#shifted) return `spoor_capture.as_text(${value})`
    // Of a boolean there is no more than two: they are kept as they are read, and not as t and f.
    if (castable.has(column.baseType) || column.baseType === 'bool') return `${value}::pg_catalog.text`
    // IS NULL would ask every field of a composite value; this asks the value.
    return `case when ${value} is distinct from null then pg_catalog.format('%s', ${value}) end`
  }

  /** A value as PostgreSQL's own `=` tells it apart, of a type for which that is identity. */
  comparable(column: CapturedColumn, row: RowOf): string {
    return collated.has(column.baseType) ? exact(row(column)) : row(column)
  }

  isNotNull(column: CapturedColumn, row: RowOf): string {
    return `${row(column)} is distinct from null`
  }

  /** Whether two values are not the same to the last byte of their text, whatever their type calls equal. */
  differs(column: CapturedColumn, o: RowOf, n: RowOf): string {
    const [before, after] = [o(column), n(column)]
    if (!this.#shifted && column.plainEquality)
      return collated.has(column.baseType) ? distinct(exact(before), exact(after)) : distinct(before, after)
    const texts = distinct(exact(this.text(column, o)), exact(this.text(column, n)))
    if (this.#shifted) return texts
    // Most values are as they were, byte for byte; that is seen without writing them out.
    return `(pg_catalog.record_image_ne(row(${before}), row(${after})) and ${texts})`
  }

  /** A JSON array of texts; `texts` are nullable text expressions over values of `columns`. */
  list(columns: readonly CapturedColumn[], texts: readonly string[]): string {
    if (this.#shifted || columns.some((column) => !unescaped.has(column.baseType)))
      return `pg_catalog.json_build_array(${texts.join(', ')})::pg_catalog.text`
    const quoted = texts.map((text) =>
      text === 'null' ? `'null'` : `coalesce(${together(`'"'`, text, `'"'`)}, 'null')`,
    )
    return together(`'['`, ...quoted.flatMap((text, at) => (at === 0 ? [text] : [`','`, text])), `']'`)
  }
}

/** A function takes a hundred arguments at most, and a table has sixteen hundred columns at most. */
const mostArguments = 50

/** Texts put together, those that are NULL left out. */
export function allOf(texts: readonly string[]): string {
  if (texts.length <= mostArguments) return `pg_catalog.concat(${texts.join(', ')})`
  const groups: string[] = []
  for (let at = 0; at < texts.length; at += mostArguments) groups.push(allOf(texts.slice(at, at + mostArguments)))
  return allOf(groups)
}
