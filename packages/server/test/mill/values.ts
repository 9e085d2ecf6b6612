import { quoteLiteral } from '../../src/database/identifier.ts'
import type { Chance } from './chance.ts'

/** Types and, as literals, values of them that have tripped somebody before. */
export const typeValues: Readonly<Record<string, readonly string[]>> = {
  smallint: ['0', '-32768', '7'],
  integer: ['0', '1', '-5', '2147483647'],
  bigint: ['9007199254740993', '0', '-9223372036854775808'],
  numeric: ['1.0', '1.00', '1', 'NaN', 'Infinity', '-0.000', '1e-30', '99999999999999999999.5'],
  'numeric(9,3)': ['0', '1.500', '-99999.999', 'NaN'],
  'numeric(4,-1)': ['10', '990'],
  real: ['0', '-0', '0.1', 'NaN', 'Infinity', '1e-40'],
  'double precision': ['0', '-0', '0.30000000000000004', '-Infinity', '5e-324'],
  money: ['12.50', '-1'],
  text: [
    '',
    'a',
    'A',
    'abc',
    'ABC',
    '"q"',
    "it's",
    'two\nlines',
    '\\N',
    '{}',
    'null',
    'e\u0301',
    '\u00e9',
    '\u202eevil',
    '$spoor$',
    '=1+1',
  ],
  'varchar(20)': ['', 'x', 'X', 'a\\"b'],
  'character(5)': ['', 'ab', 'ab   '],
  bpchar: ['ab', 'ab ', 'ab  ', ''],
  '"char"': ['a', ''],
  name: ['public', 'A'],
  bytea: ['\\x', '\\x00ff', '\\x5c'],
  date: ['2026-02-28', 'infinity', '0044-03-15 BC', '1999-12-31'],
  time: ['24:00:00', '12:00:00.000001'],
  timetz: ['12:00:00+02', '10:00:00+00'],
  timestamp: ['2026-10-25 01:30:00.000001', '-infinity', '1999-12-31 23:59:59'],
  timestamptz: ['2026-10-25 01:30:00+02', '1999-12-31 23:59:59.5+00', 'infinity'],
  interval: ['1 day', '24:00:00', '1 mon', '30 days', '-1 mon +3 days', '0'],
  boolean: ['t', 'f'],
  uuid: ['9b2ad6f8-64b1-4a38-8cf0-2f3c1a27e0ab', '00000000-0000-0000-0000-000000000000'],
  inet: ['10.0.0.1', '10.0.0.0/8', '::1', '::1/64'],
  cidr: ['10.0.0.0/8', '::/0'],
  macaddr: ['08:00:2b:01:02:03'],
  bit: ['1', '0'],
  'bit varying': ['', '101'],
  json: ['null', '{"a": 1.10}', '{"a":1.10}', '{"a": 1, "a": 2}', '""'],
  jsonb: ['null', '{"a": 1.10}', '{"a": 1.1}', '[]', '{"a": {"b": []}}'],
  xml: ['<a/>', '<a b="1">x</a>', 'text'],
  tsvector: ["'a':1 'b':2", ''],
  tsquery: ['a & b'],
  point: ['(0,0)', '(-0,0)', '(1e-300,2)'],
  box: ['(1,1),(0,0)'],
  pg_lsn: ['0/0', '16/B374D848'],
  oid: ['0', '4294967295'],
  regclass: ['pg_class', 'pg_type'],
  regtype: ['integer', 'text'],
  int4range: ['empty', '[1,5)', '(,)'],
  numrange: ['[1.0,2.0)', '[1.00,2.0)', 'empty'],
  tstzrange: ['["2026-01-01 00:00:00+00",infinity)', 'empty'],
  int4multirange: ['{}', '{[1,3),[5,7)}'],
  'integer[]': ['{}', '[2:3]={1,2}', '{{1,2},{3,4}}', '{NULL}'],
  'text[]': ['{}', '{NULL,"NULL",""}', '{a,b}', '{A,B}', '{"a,b","\\"q\\""}'],
  'numeric[]': ['{1.0}', '{1.00}', '{NaN}'],
  'timestamptz[]': ['{"2026-01-01 00:00:00+00"}', '{}'],
  hstore: ['"a"=>NULL', '"a"=>"", "b"=>"1"', ''],
  citext: ['A', 'a', 'B'],
  'public."int4"': ['calm', 'odd', 'it\'\'s "x"'],
  'public."text"': ['(1,"a,b")', '(,)', '(2,)', '(1.0,x)'],
  'public."text"[]': ['{"(1,a)"}', '{}'],
  'public.rate': ['1.2500', '0.0000'],
  'public.word': ['abc', 'ABC', 'Abc', ''],
}
export const types = Object.keys(typeValues)

/** Types that can be (part of) a key, among them those whose equal values need not have the same text. */
export const keyTypes: readonly string[] = [
  'integer',
  'bigint',
  'numeric',
  'numeric',
  'double precision',
  'text',
  'varchar(20)',
  'bpchar',
  'date',
  'timestamptz',
  'interval',
  'uuid',
  'inet',
  'bytea',
  'jsonb',
  'citext',
  'int4range',
  'integer[]',
  'numeric[]',
  'public."int4"',
  'public.word',
  'public.word',
  'boolean',
  'timetz',
  'name',
]

/** What the types above need, made by the owner of the business's tables. */
export const typeSchema = `
create type public."int4" as enum ('calm', 'odd', 'it''s "x"');
create type public."text" as (a numeric, b varchar);
create domain public.rate as numeric(12,4) check (value >= 0);
create collation public.nobody_minds (provider = icu, locale = 'und-u-ks-level1', deterministic = false);
create domain public.word as pg_catalog.text collate public.nobody_minds;`

/** A literal of a value of a type, or NULL. */
export function literal(chance: Chance, type: string, nullable: boolean): string {
  if (nullable && chance.yes(0.15)) return 'null'
  const known = typeValues[type]
  if (!known) return 'null'
  const value = chance.one(known)
  return `${quoteLiteral(value.replaceAll("''", "'"))}::${type}`
}

/** A value of a key: of types with an order there are enough of them, of others those that trip. */
export function keyLiteral(chance: Chance, type: string): string {
  const n = chance.whole(9)
  switch (type) {
    case 'integer':
    case 'bigint':
      return String(n)
    case 'numeric':
      return chance.one([`${n}`, `${n}.0`, `${n}.00`])
    case 'double precision':
      return chance.one([`'${n}'::float8`, `'-0'::float8`, `'0'::float8`])
    case 'text':
    case 'varchar(20)':
    case 'name':
    case 'citext':
    case 'public.word':
      return `${quoteLiteral(chance.one(['a', 'A', 'b', 'B', 'c', '"', "'", 'x\\', '']) + (chance.yes(0.5) ? '' : String(n)))}::${type}`
    default:
      return literal(chance, type, false)
  }
}
