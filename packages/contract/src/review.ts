import * as v from 'valibot'
import { roles } from './permission.ts'
import { Instant, IntParam, SaveId, IdNumber, GivenDay } from './common.ts'
import { route } from './route.ts'

const SaveIds = v.pipe(v.array(SaveId), v.minLength(1), v.maxLength(5000))
const Text = v.pipe(v.string(), v.trim(), v.minLength(1, 'Write something first.'), v.maxLength(4000))

export const Note = v.object({ id: v.number(), text: v.string(), by: v.string(), at: Instant })
export type Note = v.InferOutput<typeof Note>

export const Assignment = v.object({
  id: v.number(),
  to: v.object({ id: v.number(), name: v.string() }),
  /** `YYYY-MM-DD`; null when no day was given. */
  dueOn: v.nullable(v.string()),
  note: v.string(),
  by: v.string(),
  at: Instant,
  doneAt: v.nullable(Instant),
  doneBy: v.nullable(v.string()),
  saveIds: v.array(v.string()),
})
export type Assignment = v.InferOutput<typeof Assignment>

export const Question = v.object({
  id: v.number(),
  actor: v.object({ id: v.number(), name: v.string() }),
  /** Whether somebody signs in to Spoor as this actor and so can answer there. */
  reachable: v.boolean(),
  text: v.string(),
  by: v.string(),
  at: Instant,
  answer: v.nullable(v.string()),
  answeredBy: v.nullable(v.string()),
  answeredAt: v.nullable(Instant),
  saveIds: v.array(v.string()),
})
export type Question = v.InferOutput<typeof Question>

/** What people said of one save. */
export const SaveReview = v.object({
  notes: v.array(Note),
  assignments: v.array(Assignment),
  questions: v.array(Question),
  marks: v.array(v.object({ mark: v.picklist(['reviewed', 'flagged']), by: v.string(), at: Instant })),
})
export type SaveReview = v.InferOutput<typeof SaveReview>

/** What waits for one person. */
export const Waiting = v.object({
  assigned: v.array(Assignment),
  /** Put to them. */
  toAnswer: v.array(Question),
  /** Asked by them: those that wait, and those answered since they last looked. */
  asked: v.array(Question),
  answered: v.array(Question),
  /** Saves that somebody flagged, for those who may take a flag off. */
  flagged: v.number(),
  /** Drafts of the tracking plan that somebody else proposed and that they may approve. */
  plans: v.array(v.object({ source: v.string(), by: v.string(), at: Instant })),
  /** Erasures that somebody else asked for and that they may decide; in words without values. */
  erasures: v.array(v.object({ id: v.number(), words: v.string(), by: v.string(), at: Instant })),
  /** Corrections that somebody else asked them to apply. */
  corrections: v.array(v.object({ id: v.number(), reason: v.string(), by: v.string(), at: Instant })),
  /** Open cases of theirs. */
  cases: v.array(v.object({ id: v.number(), question: v.string(), unanswered: v.number(), lastAt: Instant })),
  /** Corrections of theirs that came back with words. */
  sentBack: v.array(v.object({ id: v.number(), words: v.string(), by: v.string() })),
})
export type Waiting = v.InferOutput<typeof Waiting>

export const reviewRoutes = {
  readReview: route({
    method: 'GET',
    path: '/review/saves/:saveId',
    needs: 'review.read',
    summary: 'Notes, assignments, questions and marks of a save',
    params: v.object({ saveId: SaveId }),
    response: SaveReview,
  }),
  addNote: route({
    method: 'POST',
    path: '/review/notes',
    needs: 'review.write',
    summary: 'Write a note to saves',
    body: v.strictObject({ saveIds: SaveIds, text: Text }),
    response: v.object({ noted: v.number() }),
  }),
  listAssignees: route({
    method: 'GET',
    path: '/review/people',
    needs: 'review.write',
    summary: 'People to whom saves can be assigned',
    response: v.object({ people: v.array(v.object({ id: v.number(), name: v.string(), role: v.picklist(roles) })) }),
  }),
  assignSaves: route({
    method: 'POST',
    path: '/review/assignments',
    needs: 'review.write',
    summary: 'Assign saves to somebody, with a day by which they are to be dealt with',
    body: v.strictObject({
      saveIds: SaveIds,
      to: IdNumber,
      dueOn: v.nullable(GivenDay),
      note: v.pipe(v.string(), v.trim(), v.maxLength(4000)),
    }),
    response: Assignment,
  }),
  finishAssignment: route({
    method: 'PUT',
    path: '/review/assignments/:assignmentId',
    needs: 'review.write',
    summary: 'Say that an assignment is done, or not done after all',
    params: v.object({ assignmentId: IntParam }),
    body: v.strictObject({ done: v.boolean() }),
    response: Assignment,
  }),
  askActors: route({
    method: 'POST',
    path: '/review/questions',
    needs: 'review.write',
    summary: 'Put a question to whoever made these saves, one question an actor',
    body: v.strictObject({ saveIds: SaveIds, text: Text }),
    response: v.object({ questions: v.array(Question) }),
  }),
  answerQuestion: route({
    method: 'PUT',
    path: '/review/questions/:questionId',
    needs: 'questions.answer',
    summary: 'Answer a question that was put to oneself, or write down what its actor said',
    params: v.object({ questionId: IntParam }),
    body: v.strictObject({ answer: Text }),
    response: Question,
  }),
  readWaiting: route({
    method: 'GET',
    path: '/review/waiting',
    needs: 'session',
    summary: 'What waits for oneself',
    response: Waiting,
  }),
}
