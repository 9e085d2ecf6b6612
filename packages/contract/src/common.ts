import * as v from 'valibot'
import { actorKinds } from '@spoor/core'

/** Identifiers of saves exceed what a JavaScript number holds exactly, so they travel as decimal text. */
export const SaveId = v.pipe(v.string(), v.regex(/^[1-9]\d{0,18}$/))
/** ISO 8601 in UTC with microseconds. */
export const Instant = v.string()
/** An instant as somebody gives it. */
export const GivenInstant = v.pipe(v.string(), v.isoTimestamp('Give a moment as in 2026-03-31T17:05:00Z.'))
export const IntParam = v.pipe(v.string(), v.regex(/^\d{1,9}$/), v.transform(Number))
export const Captured = v.nullable(v.string())
export const Reason = v.pipe(
  v.string(),
  v.trim(),
  v.minLength(3, 'Give a reason of at least three letters.'),
  v.maxLength(2000),
)
/** A scope as the parameters of a link, percent-encoded: `what=f12&who=!k.import`. */
export const ScopeText = v.optional(v.pipe(v.string(), v.maxLength(20_000)), '')
export const Kind = v.picklist(actorKinds)
export const Action = v.picklist(['create', 'change', 'delete'])
export type Action = v.InferOutput<typeof Action>
