import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { demandSettings, readSettings } from './settings.ts'
import { storiesOf, storiesShown, storiesById } from './stories.ts'
import { beginTrial, keepTrial, readTrial, stopTrial } from './trial.ts'

const mostListed = 200

/** What stands out, and how Spoor comes to say so. */
export function noticingRouter({ db }: { db: Database }): Router {
  const router = Router()
  const shown = async (id: number) => {
    const [row] = await storiesById(db, [id])
    if (!row)
      throw new Problem('not-found', 'There is no such story; with other settings it may not stand out any more.')
    return (await storiesShown(db, [row]))[0]!
  }

  bind(router, routes.listStories, async ({ query }) => {
    const rows = await storiesOf(db, {
      fromAt: query.from,
      ...(query.until === undefined ? {} : { untilAt: query.until }),
      settled: query.settled === '1',
      limit: mostListed,
    })
    return { stories: await storiesShown(db, rows) }
  })
  bind(router, routes.readStory, ({ params }) => shown(params.storyId))
  bind(router, routes.settleStory, async ({ params, body, person }) => {
    await shown(params.storyId)
    await db('spoor.story')
      .where({ id: params.storyId })
      .update(
        body.on
          ? { settled_by: person.id, settled_at: db.fn.now(), settled_why: body.why }
          : { settled_by: null, settled_at: null, settled_why: null },
      )
    await recordEvent(db, {
      kind: 'review',
      personId: person.id,
      words: body.on
        ? `settled what stood out (story ${params.storyId})`
        : `took up again what stood out (story ${params.storyId})`,
    })
    return await shown(params.storyId)
  })

  bind(router, routes.readNoticing, async () => {
    const row = await db('spoor.noticing as n')
      .leftJoin('spoor.person as p', 'p.id', 'n.changed_by')
      .first<{ changed_at: string | null; name: string | null }>('n.changed_at', 'p.name')
    return {
      settings: await readSettings(db),
      changedBy: row.name,
      changedAt: row.changed_at,
      trial: await readTrial(db),
    }
  })
  bind(router, routes.tryNoticing, async ({ body, person }) => {
    // It goes on by itself; how it stands is read with the settings.
    await beginTrial(db, demandSettings(body), person.id)
    return { trying: true as const }
  })
  bind(router, routes.stopNoticingTrial, async () => {
    await stopTrial(db)
    return { stopping: true as const }
  })
  bind(router, routes.keepNoticing, async ({ person }) => {
    await keepTrial(db, person.id)
    await recordEvent(db, { kind: 'noticing', personId: person.id, words: 'changed how Spoor notices what stands out' })
    return { kept: true as const }
  })
  return router
}
