import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import { Router } from 'express'
import { routes } from '@spoor/contract'
import { requestedScopes } from '../scope/request.ts'
import { exportWords } from '../ledger/scope-words.ts'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { askToStop } from '../work/jobs.ts'
import { askForCheck, wholeLedger } from './checking.ts'
import { provedLines } from './proved.ts'
import { listWitnesses, stampOf, wantWitnessed } from './witnesses.ts'
import { listSeals, placeOf, readCustody } from './custody.ts'

/** How the ledger is kept, and what proves it. */
export function custodyRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.readCustody, () => readCustody(db))
  bind(router, routes.listSeals, ({ query }) => listSeals(db, query.before))
  bind(router, routes.listWitnesses, async () => ({ witnesses: await listWitnesses(db) }))
  bind(router, routes.giveToWitnesses, async ({ person }) => {
    await wantWitnessed(db)
    await recordEvent(db, { kind: 'custody', personId: person.id, words: 'had the latest seal given to the witnesses' })
    return { giving: true as const }
  })
  bind(router, routes.readSealStamp, async ({ params, response }) => {
    const answer = await stampOf(db, params.sealNumber)
    response.type('application/timestamp-reply').attachment(`seal-${params.sealNumber}.tsr`)
    response.send(answer)
  })
  bind(router, routes.checkNow, async ({ person }) => {
    await askForCheck(db, person.id)
    return { checking: true as const }
  })
  bind(router, routes.stopCheck, async () => {
    await askToStop(db, 'checking', wholeLedger)
    return { stopping: true as const }
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
