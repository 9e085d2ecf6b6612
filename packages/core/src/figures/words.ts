import { dimensionWords, measureWords } from './pivot.ts'
import type { Reckoning, Work } from './work.ts'

const reckoningWords: Readonly<Record<Reckoning, string>> = { total: 'total', mean: 'mean', count: 'number' }

/**
 * What is worked out, as a title: "Saves by who and month".
 * @param field "weekly rent of tenancies"; null where none is named or known
 */
export function workWords(work: Work, field: string | null): string {
  const named = field ?? 'a field'
  switch (work.form) {
    case 'pivot': {
      const across = work.columns === null ? '' : ` and ${dimensionWords[work.columns]}`
      const measure = measureWords[work.measure]
      return `${measure.charAt(0).toUpperCase()}${measure.slice(1)} by ${dimensionWords[work.rows]}${across}`
    }
    case 'stays':
      return work.to === null
        ? `Time of ${named} in ${work.from === null ? 'each value' : `“${work.from}”`}`
        : `Time of ${named} from ${work.from === null ? 'being made' : `“${work.from}”`} to “${work.to}”`
    case 'figure':
      return `The ${reckoningWords[work.reckoning]} of ${work.reckoning === 'count' ? `records that have ${named}` : named}, ${work.step} by ${work.step}`
  }
}
