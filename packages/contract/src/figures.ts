import * as v from 'valibot'
import { parseWork, type PivotWork, type Work } from '@spoor/core'
import { ScopeText } from './common.ts'
import { route } from './route.ts'

const Zone = v.pipe(v.string(), v.maxLength(100))

/** What is worked out, as a link has it. */
export const WorkText = v.pipe(
  v.string(),
  v.maxLength(2000),
  v.check((text) => parseWork(text) !== null, 'This is nothing that can be worked out.'),
)
const Asked = v.pipe(
  WorkText,
  v.transform((text) => parseWork(text)!),
)
const Pivoted = v.pipe(
  Asked,
  v.check((work: Work) => work.form === 'pivot', 'This is no pivot.'),
  v.transform((work) => work as PivotWork),
)

/** A count or an amount as decimal text, or an instant; null where there is none. */
const Figure = v.nullable(v.string())
const Member = v.object({ value: v.nullable(v.string()), name: v.string() })

/**
 * A pivot. Where there are more rows or columns than were asked for, the last line of the figures is of all others
 * together.
 */
export const PivotAnswer = v.object({
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
  /** Whether it was read from the hourly counts. */
  fromHours: v.boolean(),
})
export type PivotAnswer = v.InferOutput<typeof PivotAnswer>

export const figureRoutes = {
  readPivot: route({
    method: 'GET',
    path: '/figures/pivot',
    needs: 'changes.read',
    summary: 'Counts or amounts of the changes in a scope by one or two dimensions',
    query: v.object({ scope: ScopeText, work: Pivoted, zone: Zone }),
    response: PivotAnswer,
  }),
}
