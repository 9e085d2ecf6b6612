import * as v from 'valibot'
import {
  actorKinds,
  parseWork,
  type FigureWork,
  type PivotWork,
  type StaysWork,
  type Work,
  type WorkForm,
} from '@spoor/core'
import { Captured, Instant, ScopeText, GivenZone, KeptText } from './common.ts'
import { route } from './route.ts'

/** What is worked out, as a link has it. */
export const WorkText = v.pipe(
  KeptText,
  v.maxLength(2000),
  v.check((text) => parseWork(text) !== null, 'This is nothing that can be worked out.'),
)
const Asked = v.pipe(
  WorkText,
  v.transform((text) => parseWork(text)!),
)
const askedAs = <F extends WorkForm>(form: F) =>
  v.pipe(
    Asked,
    v.check((work: Work) => work.form === form, 'This is another form of working out.'),
    v.transform((work) => work as Extract<PivotWork | StaysWork | FigureWork, { form: F }>),
  )

/** A count or an amount as decimal text, or an instant; null where there is none. */
const Figure = v.nullable(v.string())
const Member = v.object({ value: v.nullable(v.string()), name: v.string() })

/**
 * A pivot. Where there are more rows or columns than were asked for, the last line of the figures is of all others
 * together.
 */
export const PivotAnswer = v.object({
  /** By what, as a heading says it; null for columns where there are none. */
  rowsBy: v.string(),
  columnsBy: v.nullable(v.string()),
  rows: v.array(Member),
  columns: v.array(Member),
  /** How many rows and columns are put together in the last. */
  moreRows: v.number(),
  moreColumns: v.number(),
  cells: v.array(v.array(Figure)),
  rowTotals: v.array(Figure),
  columnTotals: v.array(Figure),
  total: Figure,
  /** Changes in the scope that have no difference: something came or went, or it is no number. */
  without: v.number(),
  /** Counts far above what their row and column would make of them. */
  unusual: v.array(v.object({ row: v.number(), column: v.number(), expected: v.number() })),
  /** Why nobody knows whether amounts that are put together are of one currency. */
  doubt: v.nullable(v.string()),
  /** Whether it was read from the hourly counts. */
  fromHours: v.boolean(),
})
export type PivotAnswer = v.InferOutput<typeof PivotAnswer>

const NamedField = v.object({ id: v.number(), typeId: v.number(), name: v.string(), plural: v.string() })
const FigurePoint = v.object({
  /** The last day of the step, at whose end the figure stood. */
  day: v.string(),
  /** Exact; null where nothing is known. */
  figure: Figure,
  /** Records that were there, as far as is known. */
  records: v.number(),
  /** Of these, those that hold nothing, or no number. */
  without: v.number(),
  /** Records of which it is not known what they held, or whether they were there. */
  unknown: v.number(),
})
const FigurePart = v.object({
  /** What moved it; `known` and `unknown` that something came to be known, or is known no longer. */
  cause: v.picklist(['run', 'correction', 'begun', 'ended', 'who', 'kind', 'known', 'unknown']),
  name: v.string(),
  /** How many moves of records. */
  saves: v.number(),
  difference: v.string(),
  /** When the first of them was. */
  at: Instant,
  runIds: v.array(v.number()),
  correctionId: v.nullable(v.number()),
  actorId: v.nullable(v.number()),
  kind: v.nullable(v.picklist(actorKinds)),
})
/** A number of all records of a type over time. */
export const FigureAnswer = v.object({
  field: NamedField,
  /** Where amounts are in several currencies: which, and in which the figure is; without a choice there is none. */
  currency: v.nullable(
    v.object({
      /** The field that tells it. */
      fieldId: v.number(),
      name: v.string(),
      values: v.array(v.object({ value: v.string(), name: v.string() })),
      chosen: v.nullable(v.string()),
    }),
  ),
  /** Why nobody knows whether the amounts are of one currency. */
  doubt: v.nullable(v.string()),
  points: v.array(FigurePoint),
  /** What moved it most in all that time. */
  marks: v.array(FigurePart),
  /** What moved it from the end of one day to that of another; the parts and the rest add up to the difference. */
  between: v.nullable(
    v.object({
      a: FigurePoint,
      b: FigurePoint,
      difference: v.nullable(v.string()),
      parts: v.array(FigurePart),
      rest: v.object({ parts: v.number(), difference: v.string() }),
    }),
  ),
})
export type FigureAnswer = v.InferOutput<typeof FigureAnswer>

const Ms = v.nullable(v.number())
const took = {
  /** Of so many beginning and end are known. */
  many: v.number(),
  medianMs: Ms,
  p90Ms: Ms,
  longestMs: Ms,
}
/** How long records stayed in values, or took from one to another. */
export const StaysAnswer = v.object({
  field: NamedField,
  /** Values that it held, those first that were held most often. */
  values: v.array(Captured),
  all: v.object(took),
  groups: v.array(
    v.object({
      /** Of what it is: a value, an actor's number, a kind, the first day of a month; absent where that is not known. */
      of: v.object({ value: v.optional(Captured) }),
      name: v.string(),
      ...took,
      goingOn: v.number(),
    }),
  ),
  /** So many more groups are not told of one by one. */
  moreGroups: v.number(),
  goingOn: v.number(),
  /** What goes on for longest; null where it is not known since when. */
  longest: v.array(v.object({ key: v.string(), label: v.string(), value: Captured, forMs: Ms })),
  steps: v.array(v.object({ from: Captured, to: Captured, many: v.number(), back: v.number() })),
  /** Never counted as no time: those of which the beginning, or the end, is not known. */
  unknown: v.object({ began: v.number(), ended: v.number() }),
})
export type StaysAnswer = v.InferOutput<typeof StaysAnswer>

const exported = { scope: ScopeText, work: Asked, zone: GivenZone }

export const figureRoutes = {
  exportWork: route({
    method: 'GET',
    path: '/figures/worked-out.csv',
    needs: 'changes.export',
    summary: 'What was worked out of a scope as CSV',
    query: v.object(exported),
  }),
  exportWorkbook: route({
    method: 'GET',
    path: '/figures/worked-out.xlsx',
    needs: 'changes.export',
    summary: 'The same as a workbook: numbers are numbers, everything else is text',
    query: v.object(exported),
  }),
  readPivot: route({
    method: 'GET',
    path: '/figures/pivot',
    needs: 'changes.read',
    summary: 'Counts or amounts of the changes in a scope by one or two dimensions',
    query: v.object({ scope: ScopeText, work: askedAs('pivot'), zone: GivenZone }),
    response: PivotAnswer,
  }),
  readFigure: route({
    method: 'GET',
    path: '/figures/over-time',
    needs: 'changes.read',
    summary: 'A number of all records of a type over time, and what moved it between two days',
    query: v.object({ scope: ScopeText, work: askedAs('figure'), zone: GivenZone }),
    response: FigureAnswer,
  }),
  readStays: route({
    method: 'GET',
    path: '/figures/stays',
    needs: 'changes.read',
    summary: 'How long records stayed in the values of a field, or took from one to another',
    query: v.object({ scope: ScopeText, work: askedAs('stays'), zone: GivenZone }),
    response: StaysAnswer,
  }),
}
