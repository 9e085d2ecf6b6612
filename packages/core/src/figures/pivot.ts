import { actorKinds } from '../scope/model.ts'
import { addDays } from '../time/zone.ts'
import { heldFieldsOf, type Dimension, type FixedDimension, type Measure, type Work } from './work.ts'

/** Dimensions with an order of their own, whose members are all shown. */
export const ordered: ReadonlySet<Dimension> = new Set(['hour', 'weekday', 'day', 'week', 'month', 'quarter'])

/** Measures of how far numbers moved: of one field only, since pounds and months have no sum. */
export const ofDifferences: ReadonlySet<Measure> = new Set(['net', 'gross', 'mean', 'median', 'p90'])

/** Whether amounts are put together, which pounds and crowns must not be. */
export function needsAmounts(work: Work): boolean {
  if (work.form === 'pivot') return ofDifferences.has(work.measure)
  return work.form === 'figure' && work.reckoning !== 'count'
}

/** Whether values are in what comes of it, or are told apart by it, and not only how many changes there are. */
export function needsValues(work: Work): boolean {
  if (work.form !== 'pivot') return true
  const wanted = [work.rows, work.columns]
  return (
    ofDifferences.has(work.measure) ||
    heldFieldsOf(work).length > 0 ||
    wanted.some((one) => one === 'before' || one === 'after')
  )
}

const dimensionWords: Readonly<Record<FixedDimension, string>> = {
  who: 'who',
  kind: 'kind of actor',
  unit: 'unit',
  area: 'area',
  type: 'record type',
  field: 'field',
  record: 'record',
  before: 'value before',
  after: 'value after',
  channel: 'channel',
  run: 'run',
  reason: 'whether a reason was given',
  hour: 'hour of the day',
  weekday: 'day of the week',
  day: 'day',
  week: 'week',
  month: 'month',
  quarter: 'quarter',
}

/** @param field "officer of tenancies", for what a field held */
export function dimensionText(dimension: Dimension, field?: string): string {
  return dimension in dimensionWords
    ? dimensionWords[dimension as FixedDimension]
    : `${field ?? 'what the record held'} at the time`
}

export const measureWords: Readonly<Record<Measure, string>> = {
  saves: 'saves',
  changes: 'changes',
  records: 'different records',
  people: 'different people',
  share: 'share of all saves',
  net: 'net difference',
  gross: 'gross difference',
  mean: 'mean difference',
  median: 'median difference',
  p90: '90th percentile of the difference',
  last: 'last save',
}

const hours = Array.from({ length: 24 }, (_, hour) => String(hour))
const weekdays = ['1', '2', '3', '4', '5', '6', '7']

/** The first day of the spell after the one that begins on `day`. */
function nextSpell(dimension: 'day' | 'week' | 'month' | 'quarter', day: string): string {
  if (dimension === 'day') return addDays(day, 1)
  if (dimension === 'week') return addDays(day, 7)
  const months = dimension === 'month' ? 1 : 3
  const [year, month] = day.split('-').map(Number) as [number, number]
  const at = year * 12 + (month - 1) + months
  return `${String(Math.floor(at / 12)).padStart(4, '0')}-${String((at % 12) + 1).padStart(2, '0')}-01`
}

/** The last day of a spell that begins on `day`. */
export function lastDayOf(dimension: 'day' | 'week' | 'month' | 'quarter', day: string): string {
  return addDays(nextSpell(dimension, day), -1)
}

/**
 * The members of a dimension between those that are there, so that an hour or a month without a save is seen. Of others
 * nobody knows who is missing.
 * @param most how many there may be before this gives up and returns what it was given
 */
export function withEmpty(dimension: Dimension, present: readonly (string | null)[], most: number): (string | null)[] {
  switch (dimension) {
    case 'hour':
      return hours
    case 'weekday':
      return weekdays
    case 'kind':
      return [...present, ...actorKinds.filter((kind) => !present.includes(kind))]
    case 'day':
    case 'week':
    case 'month':
    case 'quarter': {
      const days = present.flatMap((day) => day ?? []).sort()
      const last = days.at(-1)
      const all: string[] = []
      if (last !== undefined)
        for (let day = days[0]!; day <= last && all.length <= most; day = nextSpell(dimension, day)) all.push(day)
      return all.length > most ? days : all
    }
    default:
      return [...present]
  }
}

/** What there would be in a cell if its row and its column had nothing to do with one another. */
function expected(row: number, column: number, total: number): number {
  return total === 0 ? 0 : (row * column) / total
}

/** So often, or less, chance makes so many of them. */
const almostNever = 1e-6
const leastSaves = 3
const timesExpected = 3

/**
 * A count far above what its row and its column would make of it: three times of it at least, and so many as chance makes
 * less than once in a million cells, counts being Poisson's with that mean (the tail's first term and the geometric series
 * that bounds the rest).
 */
export function standsOut(count: number, row: number, column: number, total: number): boolean {
  const mean = expected(row, column, total)
  if (count < leastSaves || count < mean * timesExpected || mean === 0) return false
  let logTerm = -mean + count * Math.log(mean)
  for (let n = 2; n <= count; n++) logTerm -= Math.log(n)
  return Math.exp(logTerm) / (1 - mean / (count + 1)) < almostNever
}
