import { comparePlans, editsBetween, withEdits, type TrackingPlan } from '@spoor/core'
import { allows } from '@spoor/contract'
import type { Knex } from 'knex'
import { readTriggers } from '../capture/attest.ts'
import { installCapture, installedVersion } from '../capture/install.ts'
import { readHead } from '../capture/outbox.ts'
import { overAlarms } from '../alarms/alarms.ts'
import type { Database } from '../database/knex.ts'
import { Leadership } from '../database/leadership.ts'
import { Problem } from '../errors.ts'
import { askForTakings } from '../found/ask.ts'
import type { SignedIn } from '../http/bind.ts'
import type { DiscoveredTable } from '../sources/discover.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { ownInstallation } from '../ledger/installation.ts'
import type { JobAtWork } from '../work/work.ts'
import { digestOf, installation, refreshed } from './capture-plan.ts'
import { InstallationSteps } from './installation-steps.ts'
import { demandRevision, demandSound, notProposed, planInForce, readDraft, type StoredDraft } from './plan-store.ts'

/**
 * Puts the draft in force: written down as being installed, installed in the source in one transaction, then
 * written down as in force with the coverage it begins and ends. A stop in between is settled by
 * {@link settleInstallations}.
 * @returns the new plan version.
 */
export async function putInForce(
  db: Database,
  sources: Sources,
  sourceId: number,
  revision: number,
  reason: string,
  person: Pick<SignedIn, 'id' | 'role'>,
  job?: JobAtWork,
): Promise<number> {
  const tables = await refreshed(sources, sourceId)
  return await installPlan(
    { db, sources, sourceId, tables, reason, by: { personId: person.id, approverId: null }, clearsDraft: true, job },
    async (trx, plan) => {
      const draft = await readDraft(trx, sourceId, true)
      demandRevision(draft, revision)
      demandSecondPerson(plan, draft, person)
      const next = withEdits(plan, draft.edits)
      await demandSound(trx, plan, next, draft.edits)
      return draft.proposed_by === null || draft.proposed_by === person.id
        ? { next }
        : { next, proposal: { personId: draft.proposed_by, reason: draft.proposed_reason! } }
    },
  )
}

/** Whoever may not edit puts in force what somebody else proposed; and where the plan wants two, so does everybody. */
function demandSecondPerson(plan: TrackingPlan, draft: StoredDraft, person: Pick<SignedIn, 'id' | 'role'>): void {
  const other = draft.proposed_by !== null && draft.proposed_by !== person.id
  if (other) return
  if (plan.secondPerson)
    throw new Problem(
      'second-person',
      'The plan in force takes a second person for every change of it. Propose the draft, and somebody else can put it in force. The draft is kept.',
    )
  if (!allows(person.role, 'tracking.edit'))
    throw new Problem(
      'second-person',
      'You can put in force what somebody else has proposed, and this draft is not proposed.',
    )
}

export interface PlanInstallation {
  db: Database
  sources: Sources
  sourceId: number
  tables: readonly DiscoveredTable[]
  reason: string
  /** Nobody when the plan's own rules ask for it. */
  by: { personId: number | null; approverId: number | null }
  clearsDraft: boolean
  /** The job that it is done as; fitting to tables that changed is none. */
  job?: JobAtWork | undefined
}

interface NextPlan {
  next: TrackingPlan
  /** Who proposed it and why, when that is somebody other than who puts it in force. */
  proposal?: { personId: number; reason: string }
}

export const busy = () =>
  new Problem(
    'source-busy',
    'Another plan is being put in force in this source at this moment. The draft is kept; try again in a minute.',
  )

/** Held by whoever installs in a source, or finds out what became of an installation; gone with the server that held it. */
const installing = (db: Database, sourceId: number) => new Leadership(db, `installing in source ${sourceId}`)

/** Puts a plan in force that `nextPlan` makes of the one in force. */
export async function installPlan(
  work: PlanInstallation,
  nextPlan: (trx: Knex.Transaction, plan: TrackingPlan) => Promise<NextPlan>,
): Promise<number> {
  const lock = installing(work.db, work.sourceId)
  if (!(await lock.holds())) throw busy()
  try {
    // Nobody installs now, so what is written down as being installed was left by a server that stopped.
    await settlePending(work.db, work.sources, work.sourceId)
    return await installLocked(work, nextPlan)
  } finally {
    await lock.resign()
  }
}

async function installLocked(
  { db, sources, sourceId, tables, reason, by, clearsDraft, job }: PlanInstallation,
  nextPlan: (trx: Knex.Transaction, plan: TrackingPlan) => Promise<NextPlan>,
): Promise<number> {
  const begun = await db.transaction(async (trx) => {
    await trx('spoor.plan_draft').where({ source_id: sourceId }).forUpdate()
    const { version, plan } = await planInForce(trx, sourceId)
    const { next, proposal } = await nextPlan(trx, plan)
    if (editsBetween(plan, next).length === 0)
      throw new Problem('draft-empty', 'The draft changes nothing, so there is nothing to put in force.')
    const latest = await trx('spoor.plan_version')
      .where({ source_id: sourceId })
      .max<{ max: number | null }[]>('version')
    if (await trx('spoor.plan_version').where({ source_id: sourceId, state: 'installing' }).first('version'))
      throw busy()
    const planVersion = Math.max(version, latest[0]?.max ?? 0) + 1
    const work = await installation(trx, sourceId, tables, plan, next, planVersion)
    await trx('spoor.plan_version').insert({
      source_id: sourceId,
      version: planVersion,
      plan: JSON.stringify(next),
      state: 'installing',
      reason: proposal?.reason ?? reason,
      put_by: proposal?.personId ?? by.personId,
      approved_by: proposal ? by.personId : by.approverId,
      job_id: job?.id ?? null,
    })
    return { work, planVersion }
  })
  const key = { source_id: sourceId, version: begun.planVersion }
  const source = await sources.connection(sourceId)
  await demandOwn(db, source, key)
  const before = await clockOf(source).catch(async (error: unknown) => {
    await db('spoor.plan_version').where(key).update({ state: 'refused' })
    throw isUnreachable(error)
      ? new Problem('source-unreachable', `${unreachable(error).words} The draft is kept.`)
      : error
  })
  await overAlarms(db, sourceId, 'capture-untried')
  const since = await installCapture(source, begun.work, new InstallationSteps(db, sourceId, job)).catch(
    (error: unknown) => becameOf(db, source, key, error),
  )
  await conclude(db, source, sourceId, begun.planVersion, before, since, clearsDraft)
  await db('spoor.plan_version')
    .where(key)
    .update({ fitted: digestOf(begun.work) })
  return begun.planVersion
}

/**
 * What became of an installation that failed: it may be the answer to its commit that was lost. While the source does
 * not say, nobody knows, and {@link settleInstallations} asks again.
 * @returns since when it surely is in force, if it is.
 */
async function becameOf(
  db: Database,
  source: Database,
  key: { source_id: number; version: number },
  failure: unknown,
): Promise<string> {
  const standing = await installedVersion(source).catch(() => undefined)
  if (standing === key.version) return await clockOf(source)
  if (standing === undefined)
    throw new Problem(
      'source-unreachable',
      `The source broke off while plan ${key.version} was being installed, and does not answer. Whether the plan is in force is found out as soon as it does; the draft is kept until then.`,
    )
  if (failure instanceof Problem) await db('spoor.plan_version').where(key).update({ state: 'refused' })
  throw failure
}

async function clockOf(source: Database): Promise<string> {
  const { rows } = await source.raw<{ rows: { now: string }[] }>('select clock_timestamp() as now')
  return rows[0]!.now
}

/** @throws Problem when the capture in the source belongs to another Spoor; nothing of it is touched then. */
async function demandOwn(db: Database, source: Database, key: { source_id: number; version: number }): Promise<void> {
  const head = await readHead(source).catch((error: unknown) => {
    if (isUnreachable(error)) return null // Said by what follows.
    throw error
  })
  if (!head?.installation || head.installation === (await ownInstallation(db))) return
  await db('spoor.plan_version').where(key).update({ state: 'refused' })
  throw new Problem(
    'source-known',
    'Another Spoor captures in this database. Nothing was installed and the draft is kept. Remove the capture of the other one there first.',
  )
}

/** Coverage of what went off ends before the installation began; of what came on begins after it was committed. */
async function conclude(
  db: Database,
  source: Database,
  sourceId: number,
  version: number,
  endedAt: string,
  beganAt: string,
  clearsDraft: boolean,
): Promise<void> {
  const installed = await readTriggers(source)
  const epoch = (await readHead(source))?.epoch ?? null
  await db.transaction(async (trx) => {
    await readDraft(trx, sourceId, true)
    const { plan: before } = await planInForce(trx, sourceId)
    const row = await trx('spoor.plan_version')
      .where({ source_id: sourceId, version })
      .first<{ plan: TrackingPlan }>('plan')
    await trx('spoor.plan_version').where({ source_id: sourceId, state: 'in force' }).update({ state: 'superseded' })
    await trx('spoor.plan_version')
      .where({ source_id: sourceId, version })
      .update({ state: 'in force', put_at: beganAt, installed: JSON.stringify(installed) })
    for (const { fieldId, to } of comparePlans(before, row.plan)) {
      await trx('spoor.coverage')
        .where({ field_id: fieldId, to_at: null })
        .update({
          to_at: endedAt,
          ended_because: to === 'off' ? 'switched off in the tracking plan' : 'kept another way from then on',
        })
      if (to !== 'off') await trx('spoor.coverage').insert({ field_id: fieldId, keep: to, from_at: beganAt })
    }
    await askForTakings(trx, sourceId, { plan: row.plan, version })
    await adoptEpoch(trx, sourceId, epoch)
    await overAlarms(trx, sourceId, 'capture-missed')
    if (!clearsDraft) return
    await trx('spoor.plan_draft')
      .where({ source_id: sourceId })
      .update({ edits: '[]', revision: trx.raw('revision + 1'), edited_by: null, edited_at: null, ...notProposed })
  })
}

/** A capture that was made anew numbers its rows from the beginning. */
async function adoptEpoch(trx: Knex.Transaction, sourceId: number, epoch: string | null): Promise<void> {
  const before = await trx('spoor.source').where({ id: sourceId }).first<{ epoch: string | null }>('epoch')
  if (before.epoch === epoch) return
  await trx('spoor.source').where({ id: sourceId }).update({ epoch })
  await trx('ledger.collector_state')
    .where({ source_id: sourceId })
    .update({ high_seq: 0, last_at: null, batches: trx.raw('batches + 1') })
  await overAlarms(trx, sourceId, 'source-replaced')
}

/**
 * A plan that was being installed when a server stopped, or when the source broke off, is in force if the source says
 * so, and was refused otherwise. What another server installs at this moment is left alone.
 * @returns what was found, in words, for the log.
 */
export async function settleInstallations(db: Database, sources: Sources, only?: number): Promise<string[]> {
  const pending = db('spoor.plan_version').where({ state: 'installing' }).distinct<{ source_id: number }[]>('source_id')
  const found: string[] = []
  for (const { source_id: sourceId } of only === undefined ? await pending : await pending.where({ source_id: only })) {
    const lock = installing(db, sourceId)
    if (!(await lock.holds())) continue
    try {
      found.push(...(await settlePending(db, sources, sourceId)))
    } finally {
      await lock.resign()
    }
  }
  return found
}

/** To be called by whoever holds the source's lock. */
async function settlePending(db: Database, sources: Sources, sourceId: number): Promise<string[]> {
  const pending = await db('spoor.plan_version')
    .where({ source_id: sourceId, state: 'installing' })
    .select<{ version: number; put_at: string }[]>('version', 'put_at')
  const found: string[] = []
  for (const { version, put_at: begunAt } of pending) {
    try {
      const source = await sources.connection(sourceId)
      if ((await installedVersion(source)) === version) {
        await conclude(db, source, sourceId, version, begunAt, await clockOf(source), true)
        found.push(`plan ${version} had been installed before the stop and is in force`)
      } else {
        await db('spoor.plan_version').where({ source_id: sourceId, version }).update({ state: 'refused' })
        found.push(`plan ${version} had not been installed before the stop; its draft is kept`)
      }
    } catch (error) {
      if (!isUnreachable(error)) throw error
      found.push(`plan ${version} was being installed at the stop and its source cannot be reached yet`)
    }
  }
  return found
}
