import {
  actorKinds,
  dateText,
  kindPlural,
  runWords,
  weekdayWords,
  type Dimension,
  type RunKind,
  type Scope,
} from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { isLimited, reachIn } from '../ledger/reach.ts'
import { whereScope } from '../ledger/scope-sql.ts'
import { seenRecord } from '../changes/queries/seen-record.ts'

/**
 * What members of a dimension are called, in their order.
 * @param values null for those that have none
 */
export async function namesOf(
  db: Database,
  scopes: readonly Scope[],
  dimension: Dimension,
  values: readonly (string | null)[],
  nowMs: number,
): Promise<string[]> {
  const named = await known(
    db,
    scopes,
    dimension,
    values.flatMap((value) => value ?? []),
    nowMs,
  )
  return values.map((value) =>
    value === null ? (withoutOne[dimension] ?? 'none') : (named.get(value) ?? plainName(dimension, value)),
  )
}

const withoutOne: Partial<Record<Dimension, string>> = {
  unit: 'no unit said',
  run: 'before runs were kept',
  before: 'nothing',
  after: 'nothing',
}

function plainName(dimension: Dimension, value: string): string {
  switch (dimension) {
    case 'kind': {
      const kind = actorKinds.find((one) => one === value)
      return kind ? kindPlural[kind] : value
    }
    case 'reason':
      return value === 'yes' ? 'with a reason' : 'without a reason'
    case 'hour':
      return `${value.padStart(2, '0')}:00`
    case 'weekday':
      return weekdayWords[Number(value) - 1] ?? value
    case 'day':
      return dateText(value)
    case 'week':
      return `week of ${dateText(value)}`
    case 'month':
      return `${dateText(value).split(' ')[1]!.slice(0, 3)} ${value.slice(0, 4)}`
    case 'quarter':
      return `quarter ${Math.floor((Number(value.slice(5, 7)) - 1) / 3) + 1} of ${value.slice(0, 4)}`
    default:
      return value
  }
}

async function known(
  db: Database,
  scopes: readonly Scope[],
  dimension: Dimension,
  values: readonly string[],
  nowMs: number,
): Promise<ReadonlyMap<string, string>> {
  if (values.length === 0) return new Map()
  const ids = boundArray(values)
  const reach = reachIn(scopes)
  const named = (rows: { id: string | number; name: string }[]) =>
    new Map(rows.map(({ id, name }) => [String(id), name]))
  switch (dimension) {
    case 'who':
      return named(await db('spoor.actor').whereRaw('id = any(?::int[])', [ids]).select('id', 'name'))
    case 'type':
      return named(await db('spoor.record_type').whereRaw('id = any(?::int[])', [ids]).select('id', 'plural as name'))
    case 'field':
      return named(
        await db('spoor.field as f')
          .join('spoor.record_type as t', 't.id', 'f.type_id')
          .whereRaw('f.id = any(?::int[])', [ids])
          .select('f.id', db.raw(`f.name || ' of ' || t.plural as name`)),
      )
    case 'run': {
      const runs = db('ledger.run as n').whereRaw('n.id = any(?::bigint[])', [ids])
      if (isLimited(reach)) {
        void runs
          .join('ledger.save as s', 's.run_id', 'n.id')
          .groupBy('n.id')
          .select('n.id', 'n.kind', 'n.declared', db.raw('count(*) as saves'))
        whereScope(runs, reach, 'save', 's', nowMs)
      } else void runs.select('n.id', 'n.kind', 'n.declared', 'n.saves')
      const rows = (await runs) as { id: string; kind: RunKind; declared: string | null; saves: string }[]
      return new Map(rows.map((row) => [row.id, runWords(row.kind, row.declared, Number(row.saves))]))
    }
    case 'record': {
      const refs = values.map((value) => /^t(\d+):(.*)$/s.exec(value)!)
      const { rows } = await db.raw<{ rows: { id: string; name: string }[] }>(
        `select 't' || wanted.type_id || ':' || wanted.record_key as id, t.name || ' ' || r.label as name
           from unnest(?::int[], ?::text[]) as wanted(type_id, record_key)
           join ${isLimited(reach) ? 'lateral ?' : 'spoor.record'} r using (type_id, record_key) join spoor.record_type t on t.id = r.type_id`,
        [
          boundArray(refs.map(([, typeId]) => typeId!)),
          boundArray(refs.map(([, , key]) => key!)),
          ...(isLimited(reach) ? [seenRecord(db, reach, nowMs, 'wanted')] : []),
        ],
      )
      return named(rows)
    }
    default:
      return new Map()
  }
}
