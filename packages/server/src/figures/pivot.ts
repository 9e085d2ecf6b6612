import {
  counted,
  dimensionText,
  grouped,
  heldFieldOf,
  listed,
  longestMember,
  ofDifferences,
  ordered,
  standsOut,
  withEmpty,
  type Dimension,
  type FixedDimension,
  type Measure,
  type PivotWork,
  type Scope,
} from '@spoor/core'
import type { PivotAnswer } from '@spoor/contract'
import type { Knex } from 'knex'
import { countsAnswer, wholeHours } from '../changes/queries/rollup.ts'
import { Problem } from '../errors.ts'
import type { Database } from '../database/knex.ts'
import { asOfOneMoment } from '../database/one-moment.ts'
import { maskedFields } from '../ledger/masked.ts'
import { heldBy } from '../ledger/held-sql.ts'
import { demandWhole } from '../ledger/reach.ts'
import { asksChanges, rowColumns, whereScopes } from '../ledger/scope-sql.ts'
import { keepSoon } from '../scope/reading.ts'
import type { Answerer } from '../work/answering.ts'
import { countsOf, isCounted, isOfTime, timeSql, type TimeDimension } from './counts.ts'
import { apartByCurrency } from './currencies.ts'
import { namesOf } from './names.ts'
import { demandField, type FieldOfType, type WorkRequest } from './ground.ts'

/** More rows or columns than these are not read by anybody. */
const mostOrderedRows = 750
const mostOrderedColumns = 120
const mostCells = 20_000

/** Dimensions that hold a change apart from others of its save. */
const ofChanges: ReadonlySet<Dimension> = new Set(['field', 'before', 'after'])
const ofValues: ReadonlySet<Dimension> = new Set(['before', 'after'])

/** Where the rows come from, and at which level. */
type Ground = 'hours' | 'save' | 'change'

function groundOf({ work, zone }: WorkRequest<PivotWork>, scopes: readonly Scope[], nowMs: number): Ground {
  const wanted = [work.rows, work.columns].flatMap((one) => one ?? [])
  const counts = work.measure === 'saves' || work.measure === 'share' || work.measure === 'changes'
  if (counts && wanted.every(isCounted) && countsAnswer(scopes, nowMs) && wholeHours(zone, nowMs)) return 'hours'
  const asked =
    wanted.some((one) => ofChanges.has(one)) || work.measure === 'changes' || ofDifferences.has(work.measure)
  return asked ? 'change' : 'save'
}

/**
 * How a measure is made: of rows that were put together by cell first, or of every row, because parts of it do not add up.
 * `m` is the figure of a row.
 */
interface Making {
  /** Of one row. */
  figure: string
  /** Of rows of one cell; null where they stay apart. */
  together: string | null
  /** Of figures. */
  all: string
}

const middle = `(percentile_disc(0.5) within group (order by m) - percentile_disc(0.5) within group (order by -m)) / 2`

function makingOf(measure: Measure, ground: Ground, apart: boolean): Making {
  const sum = (of: string): Making => ({ figure: of, together: `sum(${of})`, all: 'sum(m)' })
  const each = (figure: string, all: string): Making => ({ figure, together: null, all })
  if (ground === 'hours') return sum(measure === 'changes' ? 'r.changes' : 'r.saves')
  switch (measure) {
    case 'saves':
    case 'share':
      return ground === 'change' && apart ? each('r.save_id', 'count(distinct m)') : sum('1')
    case 'changes':
      return sum('1')
    case 'records':
      return each(`r.type_id || ':' || r.record_key`, 'count(distinct m)')
    case 'people':
      return each(
        `case when r.actor_kind in ('person', 'delegate') then coalesce(a.same_as, a.id) end`,
        'count(distinct m)',
      )
    case 'net':
      return sum('r.rise')
    case 'gross':
      return sum('abs(r.rise)')
    case 'mean':
      return each('r.rise', 'avg(m)')
    case 'median':
      return each('r.rise', middle)
    case 'p90':
      return each('r.rise', 'percentile_disc(0.9) within group (order by m)')
    case 'last':
      return { figure: 'r.captured_at', together: 'max(r.captured_at)', all: 'max(m)' }
  }
}

function valueOf(
  dimension: Dimension,
  ground: Ground,
  zone: string,
): [sql: string, bindings: readonly Knex.RawBinding[]] {
  const fieldId = heldFieldOf(dimension)
  if (fieldId !== null) {
    const [sql, bindings] = heldBy({ fieldId, now: false }, rowColumns(ground === 'change' ? 'change' : 'save', 'r'))
    return [`${sql}::text`, bindings]
  }
  if (ground === 'hours' && isOfTime(dimension)) return [`r.${dimension}::text`, []]
  const its = ground === 'change' ? 'its' : 'r'
  switch (dimension as FixedDimension) {
    case 'who':
      return ['coalesce(a.same_as, a.id)::text', []]
    case 'kind':
      return ['r.actor_kind', []]
    case 'unit':
      return ['coalesce(known.unit, a.unit)', []]
    case 'area':
      return ['t.area', []]
    case 'type':
      return ['r.type_id::text', []]
    case 'field':
      return ['r.field_id::text', []]
    case 'record':
      return [`'t' || r.type_id || ':' || r.record_key`, []]
    case 'before':
      return [`left(r.before, ${longestMember})`, []]
    case 'after':
      return [`left(r.after, ${longestMember})`, []]
    case 'channel':
      return [`${its}.channel`, []]
    case 'run':
      return [`${its}.run_id::text`, []]
    case 'reason':
      return [`case when ${its}.reason is null then 'no' else 'yes' end`, []]
    default:
      return [`(${timeSql(dimension as TimeDimension, 'r.captured_at')})::text`, [zone]]
  }
}

/** Rows of all scopes with what some dimensions need beside them, under the alias `r`. */
function rowsOf(
  db: Database,
  scopes: readonly Scope[],
  ground: Ground,
  wanted: readonly Dimension[],
  { measure, zone, nowMs }: { measure: Measure; zone: string; nowMs: number },
): Knex.QueryBuilder {
  const rows = ground === 'hours' ? countsOf(db, scopes, wanted, { measure, zone, nowMs }) : db(`ledger.${ground} as r`)
  if (ground !== 'hours') whereScopes(rows, scopes, ground, 'r', nowMs)
  const needs = (...some: Dimension[]) => some.some((one) => wanted.includes(one))
  if (needs('who', 'unit') || measure === 'people') rows.join('spoor.actor as a', 'a.id', 'r.actor_id')
  if (needs('unit')) rows.leftJoin('spoor.actor as known', 'known.id', 'a.same_as')
  if (needs('area')) rows.join('spoor.record_type as t', 't.id', 'r.type_id')
  if (ground === 'change' && needs('channel', 'run', 'reason'))
    rows.joinRaw('join ledger.save as its on its.id = r.save_id and its.captured_at = r.captured_at')
  // What was erased is nobody's value.
  if (wanted.some((one) => ofValues.has(one))) rows.whereRaw('not r.erased')
  return rows
}

/** Fields whose differences or values stand in a scope; one more than one is enough to know. */
async function demandOneField(
  db: Database,
  scopes: readonly Scope[],
  { measure, rows, columns }: PivotWork,
  nowMs: number,
): Promise<void> {
  const differences = ofDifferences.has(measure)
  const values = [rows, columns].some((one) => one !== null && ofValues.has(one))
  // Held apart by field, pounds and months are not put together.
  if (!values && (!differences || [rows, columns].includes('field'))) return
  const what = scopes[0]?.what
  if (what && !what.exclude && what.types.length === 0 && what.fields.length === 1) return
  const met = db('ledger.change as r').distinct('r.field_id').limit(4)
  if (!values) met.whereNotNull('r.rise')
  whereScopes(met, scopes, 'change', 'r', nowMs)
  const fields: { id: number; name: string; plural: string }[] = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .whereIn('f.id', met)
    .orderBy('f.id')
    .select('f.id', 'f.name', 't.plural')
  if (fields.length <= 1) return
  const named = fields.slice(0, 3).map(({ name, plural }) => `${name} of ${plural}`)
  const more = fields.length > 3 ? ' and others' : ''
  throw new Problem(
    'not-together',
    `${values ? 'Values' : 'Differences'} of several fields are in this scope: ${more ? `${named.join(', ')}${more}` : listed(named)}. They are not put together. Nothing was reckoned: name one field in the sentence${values ? '' : ', or put “field” in the rows or columns'}.`,
  )
}

interface Row {
  x: string | null
  y: string | null
  gx: number
  gy: number
  figure: string | null
  rows: string
  without: string
}

/** What stands in a row of {@link Row}: a member, one that has no value, or all that are not shown by themselves. */
const rest = 'r'
const none = 'n'
const valueIn = (code: string) => (code === none ? null : code.slice(1))

/** A pivot for whoever waits for it. */
export const pivots: Answerer<
  { scopes: readonly Scope[]; work: PivotWork; zone: string; personId: number },
  PivotAnswer
> = {
  name: 'pivot',
  words: 'Putting a pivot together',
  answer: (db, { scopes, ...request }, pace) => readPivot(db, scopes, { ...request, pace }, Date.now()),
}

/**
 * Rows and columns of all scopes with one figure for each cell, exact.
 * @throws Problem where fields would be put together that have no sum, or there is more than anybody reads
 */
export async function readPivot(
  db: Database,
  asked: readonly Scope[],
  request: WorkRequest<PivotWork>,
  nowMs: number,
): Promise<PivotAnswer> {
  const { work } = request
  const { measure } = work
  const wanted = [work.rows, work.columns].flatMap((one) => one ?? [])
  if (work.rows === work.columns)
    throw new Problem('bad-request', `Rows and columns are both by ${dimensionText(work.rows)}. Nothing was reckoned.`)
  const fields = await heldDimensions(db, asked, request)
  const isOfValues = ofDifferences.has(measure) || wanted.some((one) => ofValues.has(one))
  // What is masked is not found out by adding it up.
  const masked = isOfValues ? [...(await maskedFields(db)), ...(request.closed ?? [])] : []
  const scopes: readonly Scope[] =
    masked.length === 0 ? asked : [...asked, { what: { part: 'what', exclude: true, types: [], fields: masked } }]
  const what = asked[0]?.what
  if (what && !what.exclude && what.types.length === 0 && what.fields.every((id) => masked.includes(id)))
    throw new Problem('not-allowed', 'What is named there is masked or left out, and is not found out by adding it up.')
  await demandOneField(db, scopes, work, nowMs)
  const currencies = await apartByCurrency(db, scopes, request, nowMs)
  const ground = groundOf(request, scopes, nowMs)
  const apart = scopes.some(asksChanges) || wanted.some((one) => ofChanges.has(one))
  const making = makingOf(measure, ground, apart)
  const found = await grouping(db, scopes, request, { ground, making, wanted, nowMs })
  const by = (dimension: Dimension) => dimensionText(dimension, fields.get(dimension))
  return {
    rowsBy: by(work.rows),
    columnsBy: work.columns && by(work.columns),
    doubt: currencies.doubt,
    ...(await answered(db, scopes, request, found, { ground, apartBy: currencies.apart, nowMs })),
  }
}

/**
 * The fields whose values are dimensions, by name, read up to now.
 * @throws Problem where one is masked or left out, or a part of the trail is seen
 */
async function heldDimensions(
  db: Database,
  scopes: readonly Scope[],
  { work, closed, personId = null }: WorkRequest<PivotWork>,
): Promise<Map<Dimension, string>> {
  const named = new Map<Dimension, string>()
  for (const dimension of [work.rows, work.columns]) {
    const fieldId = heldFieldOf(dimension)
    if (dimension === null || fieldId === null) continue
    demandWhole(scopes)
    const { name, plural }: FieldOfType = await demandField(db, fieldId, closed)
    // Whoever opened a moment of the ledger has read it for that moment.
    if (!db.isTransaction) await keepSoon(db, [fieldId], { personId })
    named.set(dimension, `${name} of ${plural}`)
  }
  return named
}

async function grouping(
  db: Database,
  scopes: readonly Scope[],
  { work, zone, pace }: WorkRequest<PivotWork>,
  { ground, making, wanted, nowMs }: { ground: Ground; making: Making; wanted: readonly Dimension[]; nowMs: number },
): Promise<{ cells: Row[]; members: number[] }> {
  const base = rowsOf(db, scopes, ground, wanted, { measure: work.measure, zone, nowMs })
  for (const [at, name] of (['x', 'y'] as const).entries()) {
    const dimension = wanted[at]
    if (dimension === undefined) base.select(db.raw(`'' as ${name}`))
    else {
      const [sql, bindings] = valueOf(dimension, ground, zone)
      base.select(db.raw(`coalesce('v' || ${sql}, '${none}') as ${name}`, bindings))
    }
  }
  const { figure, together, all } = making
  if (together === null) base.select(db.raw(`${figure} as m, 1 as rows, (${figure} is null)::int as without`))
  else
    base
      .select(db.raw(`${together} as m, count(*) as rows, count(*) filter (where (${figure}) is null) as without`))
      .groupByRaw('1, 2')
  const direction = work.order === 'least' ? 'asc' : 'desc'
  const isOrdered = (at: number) => wanted[at] === undefined || ordered.has(wanted[at])
  const rank = (name: string) => `row_number() over (order by ${all} ${direction} nulls last, sum(rows) desc, ${name})`
  const shown = (name: string, at: number) =>
    isOrdered(at) ? `base.${name}` : `case when ${name}s.n <= ? then base.${name} else '${rest}' end`
  const limits = [0, 1].flatMap((at) => (isOrdered(at) ? [] : [work.top]))
  const sql = `with base as materialized (?),
    xs as (select x, ${rank('x')} as n from base group by x),
    ys as (select y, ${rank('y')} as n from base group by y),
    placed as (select ${shown('x', 0)} as x, ${shown('y', 1)} as y, base.m, base.rows, base.without
                 from base join xs on xs.x = base.x join ys on ys.y = base.y)
    select x, y, grouping(x) as gx, grouping(y) as gy, (${all})::text as figure, sum(rows) as rows, sum(without) as without,
           (select count(*) from xs) as many_x, (select count(*) from ys) as many_y
      from placed where (select count(*) from xs) <= ? and (select count(*) from ys) <= ?
     group by grouping sets ((x, y), (x), (y), ())`
  const most = [isOrdered(0) ? mostOrderedRows : 2_000_000, isOrdered(1) ? mostOrderedColumns : 2_000_000]
  return await asOfOneMoment(db, async (trx) => {
    await pace?.hold(trx)
    const { rows } = await trx.raw<{ rows: (Row & { many_x: string; many_y: string })[] }>(sql, [
      base as never,
      ...limits,
      ...most,
    ])
    const [first] = rows
    // Nothing was put into cells, although there is something: there would be too many.
    if (first && first.rows === null && first.many_x !== '0') {
      const at = Number(first.many_x) > most[0]! ? 0 : 1
      const dimension = wanted[at]!
      throw new Problem(
        'bad-request',
        `That would be ${counted(Number(at === 0 ? first.many_x : first.many_y), dimensionText(dimension))} beside one another, more than ${grouped(most[at]!)}. Nothing was reckoned: take longer spells, or less time.`,
      )
    }
    return {
      cells: rows.filter((row) => row.rows !== null),
      members: first ? [Number(first.many_x), Number(first.many_y)] : [0, 0],
    }
  })
}

async function answered(
  db: Database,
  scopes: readonly Scope[],
  { work }: WorkRequest<PivotWork>,
  { cells, members }: { cells: readonly Row[]; members: readonly number[] },
  { ground, apartBy, nowMs }: { ground: Ground; apartBy: readonly Dimension[]; nowMs: number },
): Promise<Omit<PivotAnswer, 'rowsBy' | 'columnsBy' | 'doubt'>> {
  const isWhole = (flag: number) => flag === 1
  const line = async (axis: 'x' | 'y', dimension: Dimension | null) => {
    if (dimension === null) return { keys: [], names: [], more: 0 }
    const own = cells.filter((row) =>
      axis === 'x' ? !isWhole(row.gx) && isWhole(row.gy) : isWhole(row.gx) && !isWhole(row.gy),
    )
    const named = own.filter((row) => row[axis] !== rest)
    const present = named.map((row) => ({ value: valueIn(row[axis]!), figure: row.figure }))
    const values = arranged(dimension, present, work, axis === 'x' ? mostOrderedRows : mostOrderedColumns)
    const names = await namesOf(db, scopes, dimension, values, nowMs)
    const at = values.map((_, place) => place)
    if (work.order === 'name' && !ordered.has(dimension)) at.sort((a, b) => names[a]!.localeCompare(names[b]!, 'en'))
    return {
      keys: at.map((place) => ({ value: values[place]! })),
      names: at.map((place) => names[place]!),
      more: named.length < own.length ? members[axis === 'x' ? 0 : 1]! - named.length : 0,
    }
  }
  const [rows, columns] = [await line('x', work.rows), await line('y', work.columns)]
  if (rows.keys.length * columns.keys.length > mostCells)
    throw new Problem(
      'bad-request',
      `That would be ${grouped(rows.keys.length * columns.keys.length)} figures, more than ${grouped(mostCells)}. Nothing is shown: take longer spells, fewer rows, or less time.`,
    )
  const placeOf = (x: string | null, y: string | null) => JSON.stringify([x, y])
  const figures = new Map(
    cells.map((row) => [placeOf(isWhole(row.gx) ? null : row.x, isWhole(row.gy) ? null : row.y), row.figure]),
  )
  // Differences of several fields, or currencies, have no sum: only where they are held apart is there one.
  const keptApart: readonly Dimension[] = ofDifferences.has(work.measure) ? ['field', ...apartBy] : []
  const isOne = (dimension: Dimension | null, code: string | null, by: Dimension) =>
    dimension === by && code !== null && code !== rest
  const mixed = (x: string | null, y: string | null) =>
    keptApart.some(
      (by) => (work.rows === by || work.columns === by) && !isOne(work.rows, x, by) && !isOne(work.columns, y, by),
    )
  const figure = (x: string | null, y: string | null) => (mixed(x, y) ? null : (figures.get(placeOf(x, y)) ?? null))
  const codes = ({ keys, more }: { keys: readonly { value: string | null }[]; more: number }) => [
    ...keys.map(({ value }) => (value === null ? none : `v${value}`)),
    ...(more > 0 ? [rest] : []),
  ]
  const [xs, ys] = [codes(rows), codes(columns)]
  const whole = cells.find((row) => isWhole(row.gx) && isWhole(row.gy))
  const answer = {
    rows: rows.keys.map(({ value }, at) => ({ value, name: rows.names[at]! })),
    columns: columns.keys.map(({ value }, at) => ({ value, name: columns.names[at]! })),
    moreRows: rows.more,
    moreColumns: columns.more,
    cells: xs.map((x) => ys.map((y) => figure(x, y))),
    rowTotals: xs.map((x) => figure(x, null)),
    columnTotals: ys.map((y) => figure(null, y)),
    total: figure(null, null),
    without: ofDifferences.has(work.measure) ? Number(whole?.without ?? 0) : 0,
    fromHours: ground === 'hours',
  }
  return { ...answer, unusual: unusualOf(answer, work) }
}

/** Members in the order of their own, or by their figures. */
function arranged(
  dimension: Dimension,
  present: readonly { value: string | null; figure: string | null }[],
  { empty, order, measure }: PivotWork,
  most: number,
): (string | null)[] {
  const text = (value: string | null) => value ?? ''
  if (ordered.has(dimension)) {
    const isNumber = dimension === 'hour' || dimension === 'weekday'
    const sorted = present
      .map(({ value }) => value)
      .sort((a, b) => (isNumber ? Number(a) - Number(b) : text(a) < text(b) ? -1 : 1))
    return empty ? withEmpty(dimension, sorted, most) : sorted
  }
  const sign = order === 'least' ? 1 : -1
  const sorted = [...present].sort((a, b) => {
    if (a.figure === null || b.figure === null) return Number(a.figure === null) - Number(b.figure === null)
    const by = measure === 'last' ? Date.parse(a.figure) - Date.parse(b.figure) : Number(a.figure) - Number(b.figure)
    return sign * by || (text(a.value) < text(b.value) ? -1 : 1)
  })
  const values = sorted.map(({ value }) => value)
  return empty ? withEmpty(dimension, values, most) : values
}

/** Cells of counts that are far above what their row and column would make of them, with that. */
function unusualOf(
  {
    cells,
    rowTotals,
    columnTotals,
    total,
    rows,
    columns,
  }: Pick<PivotAnswer, 'cells' | 'rowTotals' | 'columnTotals' | 'total' | 'rows' | 'columns'>,
  { measure }: PivotWork,
): PivotAnswer['unusual'] {
  if (measure !== 'saves' && measure !== 'changes') return []
  const all = Number(total ?? 0)
  return rows.flatMap((_, row) =>
    columns.flatMap((__, column) => {
      const count = Number(cells[row]![column] ?? 0)
      const [byRow, byColumn] = [Number(rowTotals[row] ?? 0), Number(columnTotals[column] ?? 0)]
      if (!standsOut(count, byRow, byColumn, all)) return []
      return [{ row, column, expected: Math.round(((byRow * byColumn) / all) * 10) / 10 }]
    }),
  )
}
