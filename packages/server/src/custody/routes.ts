import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { recordEvent } from '../people/events.ts'
import { askForCheck } from './checking.ts'
import { listSeals, placeOf, readCustody, settleMismatch } from './custody.ts'

/** How the ledger is kept, and what proves it. */
export function custodyRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.readCustody, () => readCustody(db))
  bind(router, routes.listSeals, ({ query }) => listSeals(db, query.before))
  bind(router, routes.checkNow, async ({ person }) => {
    await askForCheck(db, person.id)
    return { checking: true as const }
  })
  bind(router, routes.stopCheck, async () => {
    await db('spoor.ledger_check').whereNull('ended_at').update({ stop_asked: true })
    return { stopping: true as const }
  })
  bind(router, routes.settleMismatch, async ({ params, body, person }) => {
    const settled = await settleMismatch(db, params.mismatchId, person.id, body.why)
    await recordEvent(db, { kind: 'custody', personId: person.id, words: `settled an alarm about the ledger: ${settled.words}` }) // prettier-ignore
    return settled
  })
  bind(router, routes.readPlace, ({ params }) => placeOf(db, params.saveId))
  return router
}
