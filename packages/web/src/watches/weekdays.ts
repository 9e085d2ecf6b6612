import { weekdayWords } from '@spoor/core'

/** The days of the week, 1 for Monday. */
export const weekdays = weekdayWords.map((word, at) => ({ value: at + 1, label: word.slice(0, 3) }))
