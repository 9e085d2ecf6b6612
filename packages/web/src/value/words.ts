import { arrayMembers, counted, valueKind, wallClockText, type CapturedValue, type Difference } from '@spoor/core'
import { readerZone } from './time.ts'

export interface ShownValue {
  text: string
  /** Words of ours instead of a value: "nothing", "empty text". */
  isWords: boolean
}

const words = (text: string): ShownValue => ({ text, isWords: true })

/**
 * Characters that turn the reading direction, or take no room: what is read is not what is there. Joiners are left where
 * scripts and emoji need them.
 */
const unseen =
  /\u034f|\u17b4|\u17b5|[\u00ad\u061c\u115f\u1160\u180e\u200b\u200e\u200f\u202a-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb]|(?<!\p{Script=Arabic})\u200c|(?<!\p{Extended_Pictographic}\ufe0f?)\u200d/gu

/** A text with what cannot be seen in it named: `‹U+202E›`. */
export function visible(text: string): string {
  return text.replace(unseen, (one) => `‹U+${one.codePointAt(0)!.toString(16).toUpperCase().padStart(4, '0')}›`)
}

/** Instead of a type: of the field a fingerprint is kept, or was. No type of PostgreSQL is called so. */
export const fingerprintOf = '#fingerprint'
const isFingerprint = (value: string) => /^[0-9a-f]{64}$/.test(value)

/** A captured value for the eye. NULL, empty text and an empty list are told apart. */
export function shownValue(value: CapturedValue, baseType: string): ShownValue {
  if (value === null) return words('nothing')
  if (value === '') return words('empty text')
  if (baseType === fingerprintOf && isFingerprint(value)) return words(`fingerprint ${value.slice(0, 8)}…`)
  switch (valueKind(baseType)) {
    case 'set': {
      const members = arrayMembers(value)
      if (!members) return { text: value, isWords: false }
      if (members.length === 0) return words('empty list')
      return { text: visible(members.map((member) => member ?? 'nothing').join(' · ')), isWords: false }
    }
    case 'boolean':
      return { text: value === 'true' || value === 't' ? 'yes' : 'no', isWords: false }
    case 'timestamp':
      return { text: baseType === 'timestamptz' && /^\d{4}-/.test(value) ? zoned(value) : value, isWords: false }
    default:
      return { text: visible(value), isWords: false }
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
