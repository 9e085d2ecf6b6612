import { actorKinds } from '../scope/model.ts'
import { dateText, kindPlural } from '../scope/sentence.ts'
import { weekdayWords } from '../time/weekday.ts'
import { capitalised } from '../words/list.ts'
import { measureWords } from './pivot.ts'
import { heldFieldOf, type Dimension, type FigureWork, type Measure, type Reckoning, type Work } from './work.ts'

const reckoningWords: Readonly<Record<Reckoning, string>> = { total: 'total', mean: 'mean', count: 'number' }

/** A pivot as a title: "Saves by who and month". @param by its dimensions in words */
export const pivotWords = (measure: Measure, by: readonly string[]) =>
  `${capitalised(measureWords[measure])} by ${by.join(' and ')}`

/**
 * What else is worked out, as a title.
 * @param field "weekly rent of tenancies"; null where none is named or known
 */
export function workWords(work: Exclude<Work, { form: 'pivot' }>, field: string | null): string {
  const named = field ?? 'a field'
  switch (work.form) {
    case 'stays':
      return work.to === null
        ? `Time of ${named} in ${work.from === null ? 'each value' : quoted(work.from)}`
        : `Time of ${named} from ${work.from === null ? 'being made' : quoted(work.from)} to ${quoted(work.to)}`
    case 'figure':
      return `The ${reckoningWords[work.reckoning]} of ${work.reckoning === 'count' ? `records that have ${named}` : named}${inCurrency(work)}, ${work.step} by ${work.step}`
  }
}

const quoted = (value: string) => (value === '' ? 'empty text' : `“${value}”`)

/** In which currency amounts are, where one was chosen. */
function inCurrency({ currency, reckoning }: FigureWork): string {
  if (currency === null || reckoning === 'count') return ''
  const [held = null] = JSON.parse(currency) as [string | null]
  return held === null ? ' without a currency' : ` in ${held}`
}

const withoutOne: Partial<Record<Dimension, string>> = {
  unit: 'no unit said',
  run: 'before runs were kept',
  before: 'nothing',
  after: 'nothing',
}

/** What a member of a dimension is called where that is known without asking; null for those that have none. */
export function memberWords(dimension: Dimension, value: string | null): string {
  if (heldFieldOf(dimension) !== null) {
    if (value === null) return 'none, or not known'
    const [held = null] = JSON.parse(value) as [string | null]
    return memberWords('after', held)
  }
  if (value === null) return withoutOne[dimension] ?? 'none'
  switch (dimension) {
    case 'kind': {
      const kind = actorKinds.find((one) => one === value)
      return kind ? kindPlural[kind] : value
    }
    // Nothing but a text that is empty would be seen as nothing.
    case 'before':
    case 'after':
      return value === '' ? 'empty text' : value
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
