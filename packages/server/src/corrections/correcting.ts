import type { Choice } from '@spoor/core'
import { recordEvent } from '../ledger/events.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import type { Sources } from '../sources/registry.ts'
import { ask, endWithin, type JobRow } from '../work/jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import { settleAttempts } from './attempt.ts'
import { applyCorrection, rehearseCorrection, type CarryOutDeps } from './carry-out.ts'
import { applyPiecemeal } from './piecemeal.ts'
import { subjectOf } from './store.ts'

/** What is to be done about a correction, and by whom. */
export type CorrectingWish = { correctionId: number; person: SignedIn } & (
  | { what: 'apply'; reason: string; piecemeal?: boolean }
  | {
      what: 'rehearse'
      items: readonly (readonly [number, Choice])[]
      groups: readonly { group: string; choice: Choice }[]
      leaveRefused: boolean
    }
)

/** So many values are compared and written while whoever asked waits; more of them are long work. */
const mostAtOnce = 1000
/** So long whoever asked waits for long work: most of it has ended by then. */
const waitMs = 1500

/** Rehearses and applies large corrections, with progress and a way to stop; nothing half done is left by either. */
export class Correcting implements JobHandler {
  readonly kind = 'correcting'
  readonly #deps: CarryOutDeps
  constructor(db: Database, sources: Sources) {
    this.#deps = { db, sources }
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const wish = job.input as CorrectingWish
    const { db, sources } = this.#deps
    if (wish.what === 'apply') {
      // A server that stopped may have left it applied.
      await settleAttempts(db, sources)
      const row = await db('spoor.correction').where({ id: wish.correctionId }).first<{ state: string }>('state')
      if (row.state !== 'applied') await carryOut(this.#deps, wish, job)
      return { words: `Correction ${wish.correctionId} is applied.` }
    }
    await carryOut(this.#deps, wish, job)
    return { words: `Correction ${wish.correctionId} is rehearsed.` }
  }

  async afterwards(db: Database, { input }: JobRow): Promise<void> {
    await noteRefused(db, input as CorrectingWish)
  }
}

async function carryOut(deps: CarryOutDeps, wish: CorrectingWish, job?: JobAtWork): Promise<void> {
  const { correctionId, person } = wish
  if (wish.what === 'apply' && wish.piecemeal) await applyInPieces(deps, wish, job)
  else if (wish.what === 'apply') await applyCorrection(deps, correctionId, wish.reason, person, job)
  else await rehearseCorrection(deps, correctionId, { ...wish, items: new Map(wish.items) }, person, job)
}

/** What is left of it is rehearsed at once, so that it is there to be looked at. */
async function applyInPieces(
  deps: CarryOutDeps,
  { correctionId, person, reason }: { correctionId: number; person: SignedIn; reason: string },
  job?: JobAtWork,
): Promise<void> {
  const restId = await applyPiecemeal(deps, correctionId, reason, person, job)
  if (restId === null) return
  await rehearseCorrection(deps, restId, {}, person).catch((error: unknown) => {
    // It stands as a draft, and can be rehearsed when the source answers.
    if (!(error instanceof Problem)) throw error
  })
}

/** What may have been written is not said to have been refused. */
async function noteRefused(db: Database, { what, correctionId, person }: CorrectingWish): Promise<void> {
  const row = await db('spoor.correction').where({ id: correctionId }).first<{ state: string } | undefined>('state')
  if (what === 'apply' && row?.state === 'draft') {
    const words = `tried to apply correction ${correctionId}`
    await recordEvent(db, { kind: 'correction', personId: person.id, outcome: 'refused', words })
  }
}

/**
 * Rehearses or applies a correction: here and now where it is small, as long work where it is not, which goes on when whoever
 * asked has gone.
 * @throws Problem that it came to while somebody waited, or where it is rehearsed or applied already
 */
export async function correct(deps: CarryOutDeps, wish: CorrectingWish): Promise<void> {
  const { db } = deps
  const { correctionId, person, what } = wish
  const [row] = await db('spoor.correction_item')
    .where({ correction_id: correctionId })
    .count<{ count: string }[]>('* as count')
  if (Number(row!.count) <= mostAtOnce) {
    await carryOut(deps, wish).catch(async (error: unknown) => {
      await noteRefused(db, wish)
      throw error
    })
    return
  }
  const { job, fresh } = await db.transaction((trx) =>
    ask(trx, {
      kind: 'correcting',
      subject: subjectOf(correctionId),
      words: `${what === 'apply' ? 'Applying' : 'Rehearsing'} correction ${correctionId}`,
      input: wish,
      personId: person.id,
      total: row!.count,
    }),
  )
  if (!fresh)
    throw new Problem('correction-closed', 'It is being rehearsed or applied at this moment. Wait for it, or stop it.')
  await endWithin(db, job.id, waitMs)
}
