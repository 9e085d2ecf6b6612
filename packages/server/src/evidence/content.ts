import { createHmac } from 'node:crypto'
import { coveredGroups, coveredRows, type CoveredGroup, type CoveredRows } from './covered.ts'

/** What is under the seals: rows by their key, or groups of rows by their parent. */
export type Covered = CoveredRows | CoveredGroup

export const covered: readonly Covered[] = [...coveredRows, ...coveredGroups]

export function isGroup(one: Covered): one is CoveredGroup {
  return 'parent' in one
}

/** `(login, may_declare)` of a row as one JSON text, the same for the same values whatever a session's settings. */
export function contentOf(row: string, columns: readonly string[]): string {
  return `pg_catalog.jsonb_build_array(${columns.map((column) => `${row}."${column}"`).join(', ')})`
}

export function keyOf(one: Covered, row: string): string {
  return `${contentOf(row, isGroup(one) ? [one.parent] : Object.keys(one.key))}::text`
}

/**
 * SQL for `key` and `content` of everything in a table, or of the keys in `$1`, a JSON array of keys. The content of a
 * group is a digest over its rows in order, of which there may be a million.
 */
export function contentSql(one: Covered, onlyThese: boolean): string {
  const types = isGroup(one) ? { [one.parent]: 'bigint' } : one.key
  const matches = Object.entries(types).map(([column, type], at) => `t."${column}" = (k.value ->> ${at})::${type}`)
  const from = onlyThese
    ? `pg_catalog.jsonb_array_elements($1::jsonb) k join ${one.table} t on ${matches.join(' and ')}`
    : `${one.table} t`
  if (!isGroup(one))
    return `select ${keyOf(one, 't')} as key, ${contentOf('t', one.columns)}::text as content from ${from}`
  const row = `pg_catalog.sha256(pg_catalog.convert_to(${contentOf('t', one.columns)}::text, 'UTF8'))`
  const order = one.columns.map((column) => `t."${column}"`).join(', ')
  return `select ${keyOf(one, 't')} as key,
      pg_catalog.encode(pg_catalog.sha256(pg_catalog.string_agg(${row}, ''::bytea order by ${order})), 'hex') as content
    from ${from}${one.only ? ` where ${one.only}` : ''} group by t."${one.parent}"`
}

/** `holds`: a row was there with this content; `gone`: it was taken away. */
export type FactState = 'holds' | 'gone'

export interface Fact {
  /** The number of its event. */
  id: string
  state: FactState
  seal: string
}

/**
 * What only Spoor's own servers can make of a row and its content (HMAC with a key of the data directory, RFC 2104). The
 * number of the event is in it, so that an old fact cannot be said again.
 */
export function sealOf(
  key: Buffer,
  table: string,
  rowKey: string,
  { id, state }: Omit<Fact, 'seal'>,
  content: string,
): string {
  return createHmac('sha256', key)
    .update(JSON.stringify([id, table, rowKey, state, content]))
    .digest('hex')
}

const sealDigits = 64

/** The words of the event that says it, which is of the kind that is the table's name. */
export function factWords(state: FactState, seal: string, rowKey: string): string {
  return `${state === 'holds' ? '=' : '-'}${seal} ${rowKey}`
}

/** SQL for the row's key in {@link factWords}. */
export const keyInWords = `substr(words, ${sealDigits + 3})`

export function readFact({ id, words }: { id: string; words: string }): Fact & { key: string } {
  return {
    id,
    state: words.startsWith('=') ? 'holds' : 'gone',
    seal: words.slice(1, 1 + sealDigits),
    key: words.slice(sealDigits + 2),
  }
}
