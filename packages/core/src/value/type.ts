/** How a value is read and compared; derived from its PostgreSQL type, never from its content. */
export type ValueKind =
  'number' | 'text' | 'boolean' | 'date' | 'time' | 'timestamp' | 'set' | 'json' | 'binary' | 'other'

/**
 * A captured value: PostgreSQL's own text output under fixed settings (ISO dates, UTC, hex bytea), so that no
 * digit is lost, or null for SQL NULL. Empty text is `''`, an empty array `'{}'`, json null `'null'`.
 */
export type CapturedValue = string | null

const kinds: Readonly<Record<string, ValueKind>> = {
  int2: 'number',
  int4: 'number',
  int8: 'number',
  numeric: 'number',
  float4: 'number',
  float8: 'number',
  money: 'number',
  bool: 'boolean',
  date: 'date',
  time: 'time',
  timetz: 'time',
  timestamp: 'timestamp',
  timestamptz: 'timestamp',
  json: 'json',
  jsonb: 'json',
  bytea: 'binary',
  text: 'text',
  varchar: 'text',
  bpchar: 'text',
  name: 'text',
  citext: 'text',
}

/** `baseType` is the catalogue name of a type with its domains resolved; arrays start with an underscore. */
export function valueKind(baseType: string): ValueKind {
  if (baseType.startsWith('_')) return 'set'
  return kinds[baseType] ?? 'other'
}
