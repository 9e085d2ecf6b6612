import { isDate } from '../time/zone.ts'

/**
 * What saves can be put in rows and columns by. Members are texts, or null for what has none ("no unit"): numbers of actors,
 * types, fields and runs, `t3:["7"]` for records, hours 0 to 23, days of the week 1 (Monday) to 7, and the first day of a
 * day, week, month or quarter. `held.12` is what field 12 of the record, or of that whose line it is, held just after: its
 * members are JSON lists of one, or null where it is not known.
 */
export const dimensions = [
  'who',
  'kind',
  'unit',
  'area',
  'type',
  'field',
  'record',
  'before',
  'after',
  'channel',
  'run',
  'reason',
  'hour',
  'weekday',
  'day',
  'week',
  'month',
  'quarter',
] as const
export type FixedDimension = (typeof dimensions)[number]
export type Dimension = FixedDimension | `held.${number}`

/** The field whose values a dimension goes by; null for all others. */
export function heldFieldOf(dimension: Dimension | null): number | null {
  return dimension?.startsWith('held.') ? Number(dimension.slice(5)) : null
}

/** All fields whose values are dimensions of a work. */
export function heldFieldsOf(work: Work | null): number[] {
  if (work?.form !== 'pivot') return []
  return [heldFieldOf(work.rows), heldFieldOf(work.columns)].flatMap((id) => id ?? [])
}

/** All fields whose values over all of time are reckoned with. */
export function lifeFieldsOf(work: Work | null): number[] {
  if (work === null || work.form === 'pivot') return []
  const other = work.form === 'stays' && work.by.startsWith('field.') ? Number(work.by.slice(6)) : null
  return [work.fieldId, other].flatMap((id) => id ?? [])
}

function readDimension(text: string): Dimension | undefined {
  return /^held\.[1-9]\d{0,8}$/.test(text) ? (text as Dimension) : dimensions.find((one) => one === text)
}

/** What a cell of a pivot can say of the changes in it. */
export const measures = [
  'saves',
  'changes',
  'records',
  'people',
  'share',
  'net',
  'gross',
  'mean',
  'median',
  'p90',
  'last',
] as const
export type Measure = (typeof measures)[number]

const pivotOrders = ['most', 'least', 'name'] as const
const pivotForms = ['table', 'bars', 'lines', 'heat'] as const

/** Counts or amounts by one or two dimensions. */
export interface PivotWork {
  form: 'pivot'
  rows: Dimension
  columns: Dimension | null
  measure: Measure
  /** So many rows and columns at most, the rest together in one. */
  top: number
  order: (typeof pivotOrders)[number]
  /** Whether spells, hours and days of the week without a save are kept. */
  empty: boolean
  shown: (typeof pivotForms)[number]
}

/** By what stays in a value are held apart; `field.12` is what that field held when the stay ended. */
export type StayBy = 'value' | 'who' | 'kind' | 'month' | `field.${number}`

/**
 * How long records stayed in the values of a field, or took from one of its values to another. `from` and `to` are values;
 * undefined where stays are asked for and no passage.
 */
export interface StaysWork {
  form: 'stays'
  fieldId: number | null
  by: StayBy
  from: string | null
  to: string | null
}

const reckonings = ['total', 'mean', 'count'] as const
export type Reckoning = (typeof reckonings)[number]
const figureSteps = ['day', 'week', 'month'] as const
/** By run, correction, what begun and ended, and by hand by whom; by whom alone; or by kind of actor. */
const figureBys = ['cause', 'who', 'kind'] as const
export type FigureBy = (typeof figureBys)[number]

/** A number of all records of a type over time, and what moved it from the end of day `a` to that of day `b`. */
export interface FigureWork {
  form: 'figure'
  fieldId: number | null
  reckoning: Reckoning
  step: (typeof figureSteps)[number]
  /** By what the difference is split. */
  by: FigureBy
  /** In which currency, where amounts are in several, as a member of what a field held; null: whichever it is. */
  currency: string | null
  a: string | null
  b: string | null
}

/** What is worked out of a scope. */
export type Work = PivotWork | StaysWork | FigureWork
export type WorkForm = Work['form']

export const mostRows = 200

/** What each form asks at first. */
export const firstWork: { readonly [F in WorkForm]: Extract<Work, { form: F }> } = {
  pivot: {
    form: 'pivot',
    rows: 'who',
    columns: 'month',
    measure: 'saves',
    top: 20,
    order: 'most',
    empty: true,
    shown: 'table',
  },
  stays: { form: 'stays', fieldId: null, by: 'value', from: null, to: null },
  figure: {
    form: 'figure',
    fieldId: null,
    reckoning: 'total',
    step: 'day',
    by: 'cause',
    currency: null,
    a: null,
    b: null,
  },
}

/** Nothing is nothing in a link, so that a text that is empty stands in quotes, as does one that begins with them. */
function saidInLink(value: unknown): string {
  if (value === null) return ''
  return value === '' || (typeof value === 'string' && value.startsWith('"')) ? JSON.stringify(value) : String(value)
}

function readText(text: string): string | null | undefined {
  if (text === '') return null
  const value = text.startsWith('"') ? (parsed(text) ?? text) : text
  return typeof value === 'string' && value.length <= 500 ? value : undefined
}

/** JSON; undefined for what is none. */
function parsed(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch (error) {
    if (error instanceof SyntaxError) return undefined
    throw error
  }
}

/** A member of what a field held: a JSON list of one text or nothing. */
function readHeld(text: string): string | null | undefined {
  if (text === '') return null
  const held = parsed(text)
  if (!Array.isArray(held) || held.length !== 1 || text.length > 1100) return undefined
  return held[0] === null || typeof held[0] === 'string' ? JSON.stringify(held) : undefined
}

/** A work as one parameter of a link; {@link parseWork} gives the same back. What is as at first is left out. */
export function workText(work: Work): string {
  const first: Readonly<Record<string, unknown>> = { ...firstWork[work.form] }
  const members = Object.entries(work).flatMap(([name, value]: [string, unknown]) =>
    name === 'form' || value === first[name] ? [] : [`${name}=${encodeURIComponent(saidInLink(value))}`],
  )
  return [work.form, ...members].join(';')
}

/** Reads a work from a link; null where it is not understood, since anything else would show what was not asked. */
export function parseWork(text: string): Work | null {
  const [form, ...members] = text.split(';')
  if (form !== 'pivot' && form !== 'stays' && form !== 'figure') return null
  const said = new Map<string, string>()
  for (const member of members) {
    const [name, value] = member.split('=')
    if (value === undefined || said.has(name!)) return null
    try {
      said.set(name!, decodeURIComponent(value))
    } catch (error) {
      if (error instanceof URIError) return null
      throw error
    }
  }
  const read = new Reader(said)
  const work = readForm(form, read)
  return read.understood ? work : null
}

/** Members of a link, each read once; whatever is left or not understood spoils the whole. */
class Reader {
  readonly #said: Map<string, string>
  #wrong = false

  constructor(said: Map<string, string>) {
    this.#said = said
  }

  get understood(): boolean {
    return !this.#wrong && this.#said.size === 0
  }

  /** @param read undefined for what is not understood */
  take<T>(name: string, first: T, read: (text: string) => T | undefined): T {
    const text = this.#said.get(name)
    this.#said.delete(name)
    if (text === undefined) return first
    const value = read(text)
    if (value !== undefined) return value
    this.#wrong = true
    return first
  }

  one<T extends string>(name: string, first: T, among: readonly T[]): T {
    return this.take(name, first, (text) => among.find((one) => one === text))
  }

  day(name: string): string | null {
    return this.take<string | null>(name, null, (text) => (text === '' ? null : isDate(text) ? text : undefined))
  }

  id(name: string): number | null {
    return this.take<number | null>(name, null, (text) =>
      text === '' ? null : /^[1-9]\d{0,8}$/.test(text) ? Number(text) : undefined,
    )
  }
}

const stayBys = ['value', 'who', 'kind', 'month'] as const

export function readStayBy(text: string): StayBy | undefined {
  return /^field\.[1-9]\d{0,8}$/.test(text) ? (text as StayBy) : stayBys.find((one) => one === text)
}

function readForm(form: WorkForm, read: Reader): Work {
  const value = (name: string) => read.take<string | null>(name, null, readText)
  switch (form) {
    case 'pivot': {
      const first = firstWork.pivot
      return {
        form,
        rows: read.take('rows', first.rows, readDimension),
        columns: read.take<Dimension | null>('columns', first.columns, (text) =>
          text === '' ? null : readDimension(text),
        ),
        measure: read.one('measure', first.measure, measures),
        top: read.take('top', first.top, (text) => {
          const top = /^[1-9]\d{0,2}$/.test(text) ? Number(text) : mostRows + 1
          return top <= mostRows ? top : undefined
        }),
        order: read.one('order', first.order, pivotOrders),
        empty: read.one('empty', 'true', ['true', 'false']) === 'true',
        shown: read.one('shown', first.shown, pivotForms),
      }
    }
    case 'stays':
      return {
        form,
        fieldId: read.id('fieldId'),
        by: read.take('by', firstWork.stays.by, readStayBy),
        from: value('from'),
        to: value('to'),
      }
    case 'figure':
      return {
        form,
        fieldId: read.id('fieldId'),
        reckoning: read.one('reckoning', firstWork.figure.reckoning, reckonings),
        step: read.one('step', firstWork.figure.step, figureSteps),
        by: read.one('by', firstWork.figure.by, figureBys),
        currency: read.take<string | null>('currency', null, readHeld),
        a: read.day('a'),
        b: read.day('b'),
      }
  }
}
