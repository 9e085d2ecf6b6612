import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import {
  changeWatch,
  listFirings,
  listWatches,
  makeWatch,
  readTold,
  sendAgain,
  tryMessage,
  removeWatch,
  setWatchState,
  toldTo,
} from './store.ts'
import type { Vault } from '../secret.ts'
import { keepHolidays, readHolidays } from '../people/holidays.ts'
import { addReceiver, endReceiver, listReceivers, renewSecret } from './receivers.ts'
import { answerSoon } from '../work/answering.ts'
import { watchedScopes } from './in-watch.ts'
import { watchTrials } from './trial.ts'

/** Who is told when of what comes. */
export function watchesRouter({ db, vault, mayMail }: { db: Database; vault: Vault; mayMail: boolean }): Router {
  const router = Router()
  bind(router, routes.listWatches, async () => ({
    watches: await listWatches(db),
    receivers: await listReceivers(db),
    mayMail,
  }))
  bind(router, routes.makeWatch, ({ body, person }) => makeWatch(db, person, body, { mayMail }))
  bind(router, routes.tryWatch, async ({ body, person }) => {
    // What records held is read before, where the scope asks for it, so that this is said and can be stopped.
    await watchedScopes(db, body, person, { waits: false })
    return await answerSoon(db, watchTrials, { rule: body, personId: person.id }, person.id)
  })
  bind(router, routes.changeWatch, ({ params, body, person }) =>
    changeWatch(db, person, { watchId: params.watchId, rule: body, mayMail }),
  )
  bind(router, routes.setWatchState, ({ params, body, person }) =>
    setWatchState(db, person, { watchId: params.watchId, ...body }),
  )
  bind(router, routes.removeWatch, async ({ params, person }) => {
    await removeWatch(db, person, params.watchId)
    return { removed: true as const }
  })
  bind(router, routes.tryMessage, ({ params, person }) => tryMessage(db, person, params.watchId))
  bind(router, routes.sendAgain, ({ params, person }) => sendAgain(db, person, params))
  bind(router, routes.listFirings, ({ params, query }) => listFirings(db, params.watchId, query.before))
  bind(router, routes.addReceiver, ({ body, person }) => addReceiver({ db, vault }, body, person.id))
  bind(router, routes.renewReceiverSecret, ({ params, person }) =>
    renewSecret({ db, vault }, params.receiverId, person.id),
  )
  bind(router, routes.endReceiver, ({ params, person }) => endReceiver(db, params.receiverId, person.id))
  bind(router, routes.listHolidays, async () => ({ holidays: await readHolidays(db) }))
  bind(router, routes.keepHolidays, async ({ body, person }) => ({
    holidays: await keepHolidays(db, person.id, body.holidays),
  }))
  bind(router, routes.listTold, ({ person }) => toldTo(db, person.id))
  bind(router, routes.readTold, async ({ body, person }) => ({ read: await readTold(db, person.id, body.messageIds) }))
  return router
}
