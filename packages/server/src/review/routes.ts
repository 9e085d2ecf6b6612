import { Router } from 'express'
import { permissions, routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { addNote, answer, ask, assign, finish, reviewOf, waitingFor } from './review.ts'

/** Notes, assignments and questions: what people say to one another about saves. */
export function reviewRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.readReview, ({ params }) => reviewOf(db, params.saveId))
  bind(router, routes.addNote, async ({ body, person }) => ({
    noted: await addNote(db, person, body.saveIds, body.text),
  }))
  bind(router, routes.listAssignees, async () => ({
    people: await db('spoor.person')
      .whereNull('disabled_at')
      .whereIn('role', [...permissions['review.write']])
      .orderBy('name')
      .select('id', 'name', 'role'),
  }))
  bind(router, routes.assignSaves, ({ body, person }) => assign(db, person, body))
  bind(router, routes.finishAssignment, ({ params, body, person }) =>
    finish(db, person, params.assignmentId, body.done),
  )
  bind(router, routes.askActors, async ({ body, person }) => ({
    questions: await ask(db, person, body.saveIds, body.text),
  }))
  bind(router, routes.answerQuestion, ({ params, body, person }) => answer(db, person, params.questionId, body.answer))
  bind(router, routes.readWaiting, ({ person }) => waitingFor(db, person))
  return router
}
