import { arrayMembers, counted, valueKind, wallClockText, type CapturedValue, type Difference } from '@spoor/core'
import { readerZone } from './time.ts'

export interface ShownValue {
  text: string
  /** Words of ours instead of a value: "nothing", "empty text". */
  isWords: boolean
}

const words = (text: string): ShownValue => ({ text, isWords: true })

/** A captured value for the eye. NULL, empty text and an empty list are told apart. */
export function shownValue(value: CapturedValue, baseType: string): ShownValue {
  if (value === null) return words('nothing')
  if (value === '') return words('empty text')
  switch (valueKind(baseType)) {
    case 'set': {
      const members = arrayMembers(value)
      if (!members) return { text: value, isWords: false }
      if (members.length === 0) return words('empty list')
      return { text: members.map((member) => member ?? 'nothing').join(' · '), isWords: false }
    }
    case 'boolean':
      return { text: value === 'true' || value === 't' ? 'yes' : 'no', isWords: false }
    case 'timestamp':
      return { text: baseType === 'timestamptz' && /^\d{4}-/.test(value) ? zoned(value) : value, isWords: false }
    default:
      return { text: value, isWords: false }
  }
}

function zoned(value: string): string {
  const instant = value.replace(' ', 'T').replace(/\+00$/, 'Z')
  return Number.isNaN(Date.parse(instant)) ? value : wallClockText(instant, readerZone).replace('T', ' ')
}

/** The difference in words, or nothing where the values say it all. */
export function differenceWords(difference: Difference): string {
  switch (difference.kind) {
    case 'number': {
      const sign = difference.by.startsWith('-') ? '−' : '+'
      const percent =
        difference.percent === null ? '' : ` (${difference.percent < 0 ? '−' : '+'}${Math.abs(difference.percent)} %)`
      return `${sign}${difference.by.replace('-', '')}${percent}`
    }
    case 'days':
      return `${counted(Math.abs(difference.by), 'day')} ${difference.by < 0 ? 'earlier' : 'later'}`
    case 'members':
      return [
        ...difference.added.map((member) => `+ ${member}`),
        ...difference.removed.map((member) => `− ${member}`),
      ].join(', ')
    default:
      return ''
  }
}
