import * as v from 'valibot'
import { actorKinds, isZone } from '@spoor/core'

/** Whether a date is in the calendar and one that a database keeps: 31 February is not, nor is the year 0. */
export function isDay(text: string): boolean {
  const [year, month, day] = text.split('-').map(Number)
  if (year === undefined || month === undefined || day === undefined || year < 1 || year > 9998) return false
  return day >= 1 && day <= new Date(Date.UTC(2000 + (year % 400), month, 0)).getUTCDate()
}

/** Identifiers of saves exceed what a JavaScript number holds exactly, so they travel as decimal text. */
export const SaveId = v.pipe(
  v.string(),
  v.regex(/^[1-9]\d{0,18}$/),
  // The largest that PostgreSQL's bigint holds; of one length, digits sort as numbers do.
  v.check((text) => text.length < 19 || text <= '9223372036854775807', 'There is no such save.'),
)
/** Text that PostgreSQL can hold, in JSON too: no NUL character, no half of a surrogate pair. */
export const KeptText = v.pipe(
  v.string(),
  v.check((text) => !text.includes('\0') && !/[\uD800-\uDFFF]/u.test(text), 'This holds what is no character.'),
)
/** A day of the calendar as it is given. */
export const GivenDay = v.pipe(v.string(), v.isoDate('a day as YYYY-MM-DD'), v.check(isDay, 'There is no such day.'))
/** The number of anything but a save, as it is given. */
export const IdNumber = v.pipe(v.number(), v.integer(), v.minValue(0), v.maxValue(2_147_483_647))
/** Records above which a correction takes a second person. */
export const CorrectionsAbove = v.pipe(v.number(), v.integer(), v.minValue(0), v.maxValue(1_000_000))
/** ISO 8601 in UTC with microseconds. */
export const Instant = v.string()
/** An instant as somebody gives it. */
export const GivenInstant = v.pipe(
  v.string(),
  v.isoTimestamp('Give a moment as in 2026-03-31T17:05:00Z.'),
  v.check((text) => isDay(text.slice(0, 10)) && Number.isFinite(Date.parse(text)), 'There is no such moment.'),
)
export const IntParam = v.pipe(v.string(), v.regex(/^\d{1,9}$/), v.transform(Number))
export const Captured = v.nullable(v.string())
export const Reason = v.pipe(
  KeptText,
  v.trim(),
  v.minLength(3, 'Give a reason of at least three letters.'),
  v.maxLength(2000),
)
/** A time zone as it is given: the name of one that there is. */
export const GivenZone = v.pipe(v.string(), v.maxLength(100), v.check(isZone, 'This time zone is not known.'))
/** A scope as the parameters of a link, percent-encoded: `what=f12&who=!k.import`. */
export const ScopeText = v.optional(v.pipe(KeptText, v.maxLength(20_000)), '')
export const Kind = v.picklist(actorKinds)
export const Action = v.picklist(['create', 'change', 'delete'])
export type Action = v.InferOutput<typeof Action>

/** A moment in UTC. */
export const Moment = v.pipe(
  v.string(),
  v.regex(/^(?!0000)\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d{1,6})?Z$/, 'Give a moment as 2026-03-01T09:00:00Z.'),
  // A day that its month does not have would be read as one of the next.
  v.check((text) => {
    const ms = Date.parse(text)
    return !Number.isNaN(ms) && new Date(ms).toISOString().slice(0, 10) === text.slice(0, 10)
  }, 'There is no such moment.'),
)

/** The canonical text of a record's key. */
export const RecordKey = v.pipe(v.string(), v.minLength(1), v.maxLength(10_000))
