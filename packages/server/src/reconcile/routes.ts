import { Router } from 'express'
import { routes, type ReconciledType } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { listDifferences, settleDifference } from './keep.ts'
import { askToReconcile, trackedTypes } from './reconciling.ts'

interface Pace {
  every_hours: number | null
  next_at: string | null
}

interface LookRow {
  type_id: number
  began_at: string | null
  ended_at: string | null
  records: string | null
  differing: string | null
  moving: string | null
  open: string
}

/** What records hold against what their trail says. */
export function reconcilingRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.readReconciling, async () => {
    const pace = await db('spoor.reconciling').first<Pace>('every_hours', 'next_at')
    const job = await db('spoor.job')
      .where({ kind: 'reconciling', ended_at: null })
      .orderBy('id')
      .first<{ id: number } | undefined>('id')
    return {
      everyHours: pace.every_hours,
      nextAt: pace.every_hours === null ? null : pace.next_at,
      types: await looksOf(db),
      jobId: job?.id ?? null,
    }
  })
  bind(router, routes.reconcile, async ({ body, person }) => {
    const jobId = await db.transaction(async (trx) => {
      const id = await askToReconcile(trx, body.typeIds ?? (await trackedTypes(trx)), person.id)
      await recordEvent(trx, {
        kind: 'custody',
        personId: person.id,
        words: 'asked that records be held against their trail',
      })
      return id
    })
    return { jobId }
  })
  bind(router, routes.setReconciling, async ({ body: { everyHours }, person }) => {
    return await db.transaction(async (trx) => {
      const [pace] = await trx('spoor.reconciling')
        .update({
          every_hours: everyHours,
          next_at: everyHours === null ? null : trx.raw('now() + make_interval(hours => ?)', [everyHours]),
        })
        .returning<Pace[]>(['every_hours', 'next_at'])
      await recordEvent(trx, {
        kind: 'custody',
        personId: person.id,
        words:
          everyHours === null
            ? 'had records held against their trail only when asked'
            : `had records held against their trail every ${everyHours} hours`,
      })
      return { everyHours: pace!.every_hours, nextAt: pace!.next_at }
    })
  })
  bind(router, routes.listDifferences, ({ query }) => listDifferences(db, { ...query, settled: query.settled === '1' }))
  bind(router, routes.settleDifference, ({ params, body, person }) =>
    settleDifference(db, params.differenceId, body, person.id),
  )
  return router
}

async function looksOf(db: Database): Promise<ReconciledType[]> {
  const { rows } = await db.raw<{ rows: LookRow[] }>(
    `select w.type_id, l.began_at, l.ended_at, l.records, l.differing, l.moving,
            (select count(*) from spoor.difference d where d.type_id = w.type_id and d.settled_at is null and d.over_at is null) as open
       from unnest(?::int[]) as w(type_id)
       left join lateral (select * from spoor.reconciled r where r.type_id = w.type_id order by r.id desc limit 1) l on true
      order by 1`,
    [await trackedTypes(db)],
  )
  return rows.map(({ type_id: typeId, began_at, ended_at, records, differing, moving, open }) => ({
    typeId,
    open: Number(open),
    last:
      began_at === null || ended_at === null
        ? null
        : {
            beganAt: began_at,
            endedAt: ended_at,
            records: Number(records),
            differing: Number(differing),
            moving: Number(moving),
          },
  }))
}
