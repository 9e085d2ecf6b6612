import { Router } from 'express'
import { counted } from '@spoor/core'
import { routes } from '@spoor/contract'
import { boundArray, type Database } from '../database/knex.ts'
import { reachOf } from '../ledger/reach.ts'
import { recordEvent } from '../ledger/events.ts'
import { bind } from '../http/bind.ts'
import { listScopes, nameScope, removeScope } from './named-scopes.ts'
import { readActivity } from './queries/activity.ts'
import { changePage } from './queries/changes.ts'
import { groupChanges } from './queries/groups.ts'
import { readPairs } from './queries/pairs.ts'
import { listRecords } from './queries/records.ts'
import { requestedScopes } from '../scope/request.ts'

/** The same scope read in other ways than by save. */
export function readingsRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.listChanges, async ({ query, person }) => {
    const { after, limit, sort, descending } = query
    const scopes = await requestedScopes(db, query.scope, person)
    return await changePage(db, scopes, { after, limit, sort, descending: descending === '1', nowMs: Date.now() })
  })
  bind(router, routes.readActivity, async ({ query, person }) => {
    return await readActivity(db, await requestedScopes(db, query.scope, person), query.zone, Date.now())
  })
  bind(router, routes.groupChanges, async ({ query, person }) => {
    return await groupChanges(
      db,
      await requestedScopes(db, query.scope, person),
      { ...query, before: query.before },
      Date.now(),
    )
  })
  bind(router, routes.listRecords, async ({ query, person }) =>
    listRecords(db, await requestedScopes(db, query.scope, person), query, Date.now()),
  )
  bind(router, routes.readPairs, async ({ query, person }) =>
    readPairs(db, await requestedScopes(db, query.scope, person), Date.now()),
  )

  bind(router, routes.markSaves, async ({ body, person }) => {
    if (!body.on) {
      const taken = await db('spoor.mark').whereIn('save_id', body.saveIds).where({ mark: body.mark }).delete()
      await recordEvent(db, {
        kind: 'review',
        personId: person.id,
        words:
          body.mark === 'reviewed'
            ? `took the review off ${counted(taken, 'save')}`
            : `took the flag off ${counted(taken, 'save')}`,
      })
      return { marked: taken }
    }
    const { rowCount } = await db.raw<{ rowCount: number }>(
      `insert into spoor.mark (save_id, mark, by)
       select s.id, ?, ? from ledger.save s where s.id = any(?::bigint[]) on conflict do nothing`,
      [body.mark, person.id, boundArray(body.saveIds)],
    )
    await recordEvent(db, {
      kind: 'review',
      personId: person.id,
      words:
        body.mark === 'reviewed'
          ? `marked ${counted(rowCount, 'save')} as reviewed`
          : `flagged ${counted(rowCount, 'save')}`,
    })
    return { marked: rowCount }
  })

  bind(router, routes.listScopes, async ({ person }) => ({
    scopes: await listScopes(db, person.id, { ownOnly: reachOf(person) !== null }),
  }))
  bind(router, routes.nameScope, ({ body, person }) => nameScope(db, person.id, body))
  bind(router, routes.removeScope, async ({ params, person }) => {
    await removeScope(db, person.id, params.scopeId)
    return params
  })
  return router
}
