import * as v from 'valibot'

/** Every problem the server answers with, with its HTTP status. A test holds this and the server's uses together. */
export const problems = {
  'not-signed-in': { status: 401, title: 'Sign in first' },
  'sign-in-refused': { status: 401, title: 'That sign-in is not right' },
  'sign-in-slowed': { status: 429, title: 'Too many tries' },
  'not-allowed': { status: 403, title: 'Your role does not allow this' },
  'forged-request': { status: 403, title: 'This request did not come from Spoor’s own pages' },
  'not-found': { status: 404, title: 'There is nothing here' },
  'bad-request': { status: 400, title: 'The request was not understood' },
  'bad-scope': { status: 422, title: 'Part of the scope was not understood' },
  'draft-moved': { status: 409, title: 'Somebody else changed the draft' },
  'draft-empty': { status: 422, title: 'Nothing is staged' },
  'field-untrackable': { status: 422, title: 'This cannot be tracked as it is' },
  'plan-contradicts': { status: 422, title: 'The plan contradicts itself or a lock' },
  'lock-not-confirmed': { status: 422, title: 'The lock was not confirmed' },
  'second-person': { status: 409, title: 'This takes a second person' },
  'installation-stopped': { status: 409, title: 'Putting the plan in force was stopped' },
  'directory-unreadable': { status: 422, title: 'The staff list could not be read' },
  'directory-unreachable': { status: 502, title: 'The directory cannot be reached' },
  'name-taken': { status: 409, title: 'The name is taken' },
  'rule-broken': { status: 422, title: 'That goes against a rule' },
  'source-known': { status: 409, title: 'This database is a source already' },
  'source-unreachable': { status: 502, title: 'The source cannot be reached' },
  'source-refused': { status: 502, title: 'The source refused' },
  'source-busy': { status: 503, title: 'The source is busy' },
  'nothing-to-revert': { status: 422, title: 'There is nothing to set back' },
  'correction-moved': { status: 409, title: 'A value changed after the rehearsal' },
  'correction-closed': { status: 409, title: 'This correction was applied already' },
  'trial-running': { status: 409, title: 'Settings are being tried already' },
  'trial-unfinished': { status: 409, title: 'The settings were not tried to the end' },
  'question-answered': { status: 409, title: 'The question was answered already' },
  'not-yours': { status: 403, title: 'This was not put to you' },
  'erasure-decided': { status: 409, title: 'This was decided already' },
  'too-many-to-sort': { status: 422, title: 'Too many for another order' },
  'too-many-to-revert': { status: 422, title: 'Too many for one correction' },
  'too-large': { status: 413, title: 'That is too large' },
  'not-together': { status: 422, title: 'These cannot be put together' },
  'case-closed': { status: 409, title: 'The case is closed' },
  'pack-not-there': { status: 409, title: 'This pack cannot be taken' },
  'stamp-refused': { status: 502, title: 'There is no time-stamp' },
  'being-read': { status: 503, title: 'Still being read' },
  'reading-stopped': { status: 409, title: 'The reading was stopped' },
  busy: { status: 503, title: 'Spoor is busy' },
  unexpected: { status: 500, title: 'Something went wrong in Spoor' },
} as const satisfies Record<string, { status: number; title: string }>

export type ProblemCode = keyof typeof problems

/** RFC 9457 problem details. */
export const ProblemBody = v.object({
  type: v.string(),
  code: v.picklist(Object.keys(problems) as [ProblemCode, ...ProblemCode[]]),
  title: v.string(),
  status: v.number(),
  /** What happened, what was kept and what to do. */
  detail: v.string(),
  /** A statement that would mend it, where there is one. */
  remedy: v.optional(v.string()),
  /** How far the job is that is waited for; saves are counted. */
  progress: v.optional(
    v.object({ jobId: v.number(), words: v.string(), done: v.number(), total: v.nullable(v.number()) }),
  ),
  /** Pieces that were not understood, by name. */
  pieces: v.optional(v.array(v.object({ name: v.string(), text: v.string(), words: v.string() }))),
})
export type ProblemBody = v.InferOutput<typeof ProblemBody>
