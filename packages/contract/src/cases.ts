import * as v from 'valibot'
import { IdNumber, Instant, IntParam, Reason, RecordKey, SaveId } from './common.ts'
import { route } from './route.ts'

/** What can be gathered in a case, in the order in which it is shown. */
export const caseKinds = ['save', 'record', 'question', 'note', 'correction', 'pack'] as const
export type CaseKind = (typeof caseKinds)[number]

/** Something to be gathered. */
export const CaseThing = v.variant('kind', [
  v.strictObject({ kind: v.literal('save'), saveId: SaveId }),
  v.strictObject({ kind: v.literal('record'), typeId: IdNumber, recordKey: RecordKey }),
  v.strictObject({ kind: v.literal('question'), questionId: IdNumber }),
  v.strictObject({ kind: v.literal('note'), noteId: SaveId }),
  v.strictObject({ kind: v.literal('correction'), correctionId: IdNumber }),
  v.strictObject({ kind: v.literal('pack'), packId: IdNumber }),
])
export type CaseThing = v.InferOutput<typeof CaseThing>

/** Something gathered, and how it is called. */
export const CaseItem = v.object({
  id: v.number(),
  thing: CaseThing,
  /** "Tenancy 15753 · 22 Weir Cottages". */
  title: v.string(),
  /** What it is about: the fields of a save, the text of a note. */
  about: v.string(),
  /** Who it is by and when, where it has that. */
  who: v.nullable(v.string()),
  at: v.nullable(Instant),
  gatheredBy: v.string(),
  gatheredAt: Instant,
})
export type CaseItem = v.InferOutput<typeof CaseItem>

/** What was written in a case. */
export const CaseEntry = v.object({
  id: v.number(),
  kind: v.picklist(['words', 'finding', 'opened again', 'owner', 'question']),
  text: v.string(),
  by: v.string(),
  at: Instant,
})
export type CaseEntry = v.InferOutput<typeof CaseEntry>

export const Case = v.object({
  id: v.number(),
  question: v.string(),
  owner: v.object({ id: v.number(), name: v.string() }),
  openedBy: v.string(),
  openedAt: Instant,
  state: v.picklist(['open', 'closed']),
  finding: v.nullable(v.string()),
  closedBy: v.nullable(v.string()),
  closedAt: v.nullable(Instant),
  /** How many things of each kind are gathered. */
  gathered: v.object({
    save: v.number(),
    record: v.number(),
    question: v.number(),
    note: v.number(),
    correction: v.number(),
    pack: v.number(),
  }),
  /** Questions of it that wait for an answer. */
  unanswered: v.number(),
  /** When something was last gathered, removed or written. */
  lastAt: Instant,
})
export type Case = v.InferOutput<typeof Case>

export const CaseOpened = v.object({ ...Case.entries, entries: v.array(CaseEntry) })
export type CaseOpened = v.InferOutput<typeof CaseOpened>

const Question = v.pipe(
  v.string(),
  v.trim(),
  v.minLength(5, 'Say in at least five letters what is to be found out.'),
  v.maxLength(300),
)
const Words = v.pipe(v.string(), v.trim(), v.minLength(1, 'Write something first.'), v.maxLength(10_000))
const mostAtOnce = 5000
const Things = v.pipe(v.array(CaseThing), v.maxLength(mostAtOnce))
const params = v.object({ caseId: IntParam })

export const caseRoutes = {
  listCases: route({
    method: 'GET',
    path: '/cases',
    needs: 'cases.read',
    summary: 'The open cases, or the closed ones, the latest first',
    query: v.object({
      state: v.picklist(['open', 'closed']),
      /** The number of the last one already shown. */
      before: v.optional(IntParam),
    }),
    response: v.object({ cases: v.array(Case), next: v.nullable(v.number()) }),
  }),
  openCase: route({
    method: 'POST',
    path: '/cases',
    needs: 'cases.write',
    summary: 'Open a case under a question, with what is gathered in it from the beginning',
    body: v.strictObject({ question: Question, ownerId: IdNumber, things: Things }),
    response: CaseOpened,
  }),
  readCase: route({
    method: 'GET',
    path: '/cases/:caseId',
    needs: 'cases.read',
    summary: 'One case with all that was written in it',
    params,
    response: CaseOpened,
  }),
  listCaseItems: route({
    method: 'GET',
    path: '/cases/:caseId/items',
    needs: 'cases.read',
    summary: 'What is gathered of one kind, in the order in which it was',
    params,
    query: v.object({ kind: v.picklist(caseKinds), after: v.optional(SaveId) }),
    response: v.object({ items: v.array(CaseItem), next: v.nullable(v.string()) }),
  }),
  changeCase: route({
    method: 'PUT',
    path: '/cases/:caseId',
    needs: 'cases.write',
    summary: 'Say the question in other words, or hand the case to somebody else; both are written down',
    params,
    body: v.strictObject({ question: Question, ownerId: IdNumber }),
    response: CaseOpened,
  }),
  gatherInCase: route({
    method: 'POST',
    path: '/cases/:caseId/items',
    needs: 'cases.write',
    summary: 'Gather things in an open case; what is in it already stays there once',
    params,
    body: v.strictObject({ things: v.pipe(Things, v.minLength(1)) }),
    response: v.object({ gathered: v.number(), already: v.number(), case: CaseOpened }),
  }),
  removeFromCase: route({
    method: 'POST',
    path: '/cases/:caseId/items/:itemId/removal',
    needs: 'cases.write',
    summary: 'Take something out of an open case again, with a reason that is kept',
    params: v.object({ caseId: IntParam, itemId: SaveId }),
    body: v.strictObject({ why: Reason }),
    response: CaseOpened,
  }),
  writeInCase: route({
    method: 'POST',
    path: '/cases/:caseId/entries',
    needs: 'cases.write',
    summary: 'Write something in an open case',
    params,
    body: v.strictObject({ text: Words }),
    response: CaseOpened,
  }),
  closeCase: route({
    method: 'POST',
    path: '/cases/:caseId/closing',
    needs: 'cases.write',
    summary: 'Close a case with what was found',
    params,
    body: v.strictObject({ finding: Words }),
    response: CaseOpened,
  }),
  openCaseAgain: route({
    method: 'POST',
    path: '/cases/:caseId/opening',
    needs: 'cases.write',
    summary: 'Open a closed case again, with a reason; its finding stays written in it',
    params,
    body: v.strictObject({ why: Reason }),
    response: CaseOpened,
  }),
}
