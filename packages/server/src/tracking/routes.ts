import { Router } from 'express'
import { routes } from '@spoor/contract'
import { connect, type Database } from '../database/knex.ts'
import { errorCode, Problem } from '../errors.ts'
import { bind } from '../http/bind.ts'
import { recorded, recordEvent } from '../ledger/events.ts'
import { checkSource } from '../sources/check.ts'
import { describeField, describeType } from '../sources/describe.ts'
import { withOwnLogin } from '../sources/own-login.ts'
import type { NewSource, Sources } from '../sources/registry.ts'
import { demandUnknown } from '../capture/same.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { sampleActivity } from './activity.ts'
import { blindSpots, lookForUnseen } from './blind-spots.ts'
import { previewDraft, refreshed } from './capture-plan.ts'
import { costDraft } from './cost.ts'
import { readCoverage } from './coverage.ts'
import { readInstallation, stopInstallation } from './installation-steps.ts'
import { sourceMap } from './map.ts'
import { takeFoundAgain } from './taking.ts'
import { draftShown, proposeDraft, sendDraftBack, stageDraft } from './plan-store.ts'
import { prove, readProof } from './proof.ts'
import { installDraft } from './installing.ts'
import { refitCapture } from './refit.ts'
import { rehearseDraft } from './rehearsal.ts'
import { compareVersions, listVersions, readPlanFile, returnToVersion, writePlanFile } from './versions.ts'

export interface TrackingDeps {
  db: Database
  sources: Sources
  /** Called when a source was added, so that it is collected from at once. */
  onSourceAdded(): Promise<void>
}

export function trackingRouter(deps: TrackingDeps): Router {
  const router = Router()
  bindSources(router, deps)
  bindDraft(router, deps)
  bindPlan(router, deps)
  bindCoverage(router, deps)
  return router
}

function bindSources(router: Router, { db, sources, onSourceAdded }: TrackingDeps): void {
  bind(router, routes.readTracking, async () => {
    const list = await sources.list()
    return { sources: await Promise.all(list.map((source) => sourceMap(db, sources, source))) }
  })

  bind(router, routes.checkSource, ({ body }) => checkSource(body.url))

  bind(router, routes.addSource, async ({ body, person }) => {
    const event = { kind: 'source', personId: person.id, words: `connected the source “${body.name}”` } as const
    return await recorded(db, event, async () => {
      if ((await sources.list()).some((source) => source.name === body.name)) throw taken(body.name)
      await tryAt(body.url, (candidate) => demandUnknown(db, sources, candidate, null))
      const sourceId = body.ownLogin
        ? await withOwnLogin(body.url, (url) => addUsable(sources, { ...body, url }))
        : await addUsable(sources, body)
      await sources.refresh(sourceId)
      await sampleActivity(db, await sources.connection(sourceId), sourceId, { now: true })
      await onSourceAdded()
      return { sourceId }
    })
  })

  bind(router, routes.changeSource, async ({ params, body, person }) => {
    const { sourceId } = params
    const event = { kind: 'source', personId: person.id, sourceId, words: `changed the source “${body.name}”` } as const
    return await recorded(db, event, async () => {
      const list = await sources.list()
      if (!list.some((source) => source.id === sourceId)) throw new Problem('not-found', 'There is no such source.')
      if (list.some((source) => source.name === body.name && source.id !== sourceId)) throw taken(body.name)
      if (body.url !== undefined) await tryAt(body.url, (candidate) => demandUnknown(db, sources, candidate, sourceId))
      await sources.change(sourceId, body)
      return { sourceId }
    })
  })

  bind(router, routes.lookAtSource, async ({ params }) => {
    const tables = await refreshed(sources, params.sourceId)
    const source = await sources.connection(params.sourceId)
    await sampleActivity(db, source, params.sourceId, { now: true })
    await lookForUnseen(db, source, params.sourceId)
    return { tables: tables.length }
  })

  bind(router, routes.takeFound, async ({ params, person }) => {
    await takeFoundAgain(db, params.typeId, person.id)
    return { asked: true as const }
  })

  bind(router, routes.describeType, async ({ params, body, person }) => {
    const sourceId = await describeType(db, params.typeId, body)
    await recordEvent(db, {
      kind: 'source',
      personId: person.id,
      sourceId,
      words: `described the record type ${body.name}`,
    })
    // Labels and parents are captured with the saves; when the source is away the collector fits them later.
    await refitCapture(db, sources, sourceId).catch((error: unknown) => {
      if (!isUnreachable(error) && errorCode(error) === undefined && !(error instanceof Problem)) throw error
    })
    return { typeId: params.typeId }
  })

  bind(router, routes.describeField, async ({ params, body, person }) => {
    const sourceId = await describeField(db, params.fieldId, body)
    await recordEvent(db, { kind: 'source', personId: person.id, sourceId, words: `described the field ${body.name}` })
    return { fieldId: params.fieldId }
  })
}

/** Does something at an address that is not kept. @throws Problem when nothing answers there. */
async function tryAt(url: string, work: (candidate: Database) => Promise<void>): Promise<void> {
  const candidate = connect(url, { applicationName: 'spoor check', maxConnections: 1 })
  try {
    await work(candidate)
  } catch (error) {
    if (isUnreachable(error)) throw new Problem('source-unreachable', `${unreachable(error).words} Nothing was kept.`)
    throw error
  } finally {
    await candidate.destroy()
  }
}

/** @throws Problem when what the login may do there is not enough; nothing is kept then */
async function addUsable(sources: Sources, source: NewSource): Promise<number> {
  const { usable, checks } = await checkSource(source.url)
  if (usable) return await sources.add(source)
  const wrong = checks.filter((one) => !one.passed).map((one) => one.words)
  throw new Problem('source-refused', `${wrong.slice(0, 3).join(' ')} Nothing was kept.`)
}

function taken(name: string): Problem {
  return new Problem('name-taken', `There is a source “${name}” already. Nothing was changed; choose another name.`)
}

function bindDraft(router: Router, { db, sources }: TrackingDeps): void {
  bind(router, routes.stageEdits, async ({ params, body, person }) => {
    await stageDraft(db, params.sourceId, body.revision, body.edits, person.id, body.lockWords)
    return await draftShown(db, params.sourceId)
  })

  bind(router, routes.previewDraft, async ({ params }) => ({ sql: await previewDraft(db, sources, params.sourceId) }))
  bind(router, routes.costDraft, ({ params }) => costDraft(db, sources, params.sourceId))
  bind(router, routes.rehearseDraft, async ({ params }) => ({
    types: await rehearseDraft(db, sources, params.sourceId),
  }))

  bind(router, routes.proposeDraft, async ({ params, body, person }) => {
    const event = {
      kind: 'tracking',
      personId: person.id,
      sourceId: params.sourceId,
      words: 'proposed a draft of the tracking plan',
    } as const
    await recorded(db, event, () => proposeDraft(db, params.sourceId, body.revision, body.reason, person.id))
    return await draftShown(db, params.sourceId)
  })

  bind(router, routes.sendDraftBack, async ({ params, body, person }) => {
    const event = {
      kind: 'tracking',
      personId: person.id,
      sourceId: params.sourceId,
      words: 'sent a draft of the tracking plan back',
    } as const
    await recorded(db, event, () => sendDraftBack(db, params.sourceId, body.revision, body.why, person.id))
    return await draftShown(db, params.sourceId)
  })
}

function bindPlan(router: Router, { db }: TrackingDeps): void {
  bind(router, routes.putInForce, async ({ params, body, person }) => ({
    planVersion: await installDraft(db, {
      sourceId: params.sourceId,
      revision: body.revision,
      reason: body.reason,
      person: { id: person.id, role: person.role },
    }),
  }))
  bind(router, routes.readInstallation, ({ params }) => readInstallation(db, params.sourceId))
  bind(router, routes.stopInstallation, ({ params }) => stopInstallation(db, params.sourceId))

  bind(router, routes.listVersions, async ({ params }) => ({ versions: await listVersions(db, params.sourceId) }))
  bind(router, routes.compareVersions, async ({ params, query }) => ({
    lines: await compareVersions(db, params.sourceId, query.from, query.to),
  }))
  bind(router, routes.returnToVersion, ({ params }) => returnToVersion(db, params.sourceId, params.version))
  bind(router, routes.writePlanFile, async ({ params, query, response }) => {
    const file = await writePlanFile(db, params.sourceId, query.version)
    response
      .attachment('spoor-plan.json')
      .type('application/json')
      .send(`${JSON.stringify(file, null, 2)}\n`)
  })
  bind(router, routes.readPlanFile, ({ params, body, person }) =>
    readPlanFile(db, params.sourceId, body.file, person.id),
  )
}

function bindCoverage(router: Router, { db, sources }: TrackingDeps): void {
  bind(router, routes.readCoverage, ({ params }) => readCoverage(db, params.typeId))
  bind(router, routes.readBlindSpots, async ({ params }) => ({ spots: await blindSpots(db, params.sourceId) }))
  bind(router, routes.proveRecording, async ({ params, person }) => {
    const { sourceId } = params
    const proof = await prove(db, sources, sourceId, person.id)
    const words = `proved the recording: ${proof.recorded} recorded, ${proof.missed} missed, ${proof.untried} not tried`
    await recordEvent(db, { kind: 'tracking', personId: person.id, sourceId, words })
    return proof
  })
  bind(router, routes.readProof, ({ params }) => readProof(db, params.proofId))
}
