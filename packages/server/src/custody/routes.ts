import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import { Router } from 'express'
import { routes } from '@spoor/contract'
import { requestedScopes } from '../changes/scope-request.ts'
import { exportWords } from '../changes/scope-words.ts'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { recordEvent } from '../people/events.ts'
import { askForCheck } from './checking.ts'
import { provedLines } from './proved.ts'
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
    await recordEvent(db, {
      kind: 'custody',
      personId: person.id,
      words: `settled an alarm about the ledger: ${settled.words}`,
    })
    return settled
  })
  bind(router, routes.exportProved, async ({ query, person, request, response }) => {
    const scopes = await requestedScopes(db, query.scope, person)
    await recordEvent(db, {
      kind: 'export',
      personId: person.id,
      words: `took saves out with their proofs: ${await exportWords(db, query.scope, person)}`,
      address: request.ip,
    })
    response.type('application/x-ndjson').attachment(`saves-${new Date().toISOString().slice(0, 10)}.ndjson`)
    await pipeline(Readable.from(provedLines(db, scopes)), response).catch((error: unknown) => {
      // The reader stopped, or it broke: a file that is not whole has no last line.
      response.destroy()
      if ((error as NodeJS.ErrnoException).code !== 'ERR_STREAM_PREMATURE_CLOSE') throw error
    })
  })
  bind(router, routes.readPlace, ({ params }) => placeOf(db, params.saveId))
  return router
}
