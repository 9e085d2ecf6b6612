import { setImmediate as breathe } from 'node:timers/promises'
import { counted, Noticer, type NoticingState, type Reason, type Story } from '@spoor/core'
import type { NoticingTrial } from '@spoor/contract'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { ask, askToStop, type JobRow } from '../work/jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import { readNoticed } from './read.ts'
import { settingsFrom, type Settings } from './settings.ts'
import { keepStories, storiesShown, type StoryRow } from './stories.ts'
import { readWorld } from './world.ts'

const slice = 5000
/** There is one set of rules. */
const allRules = 'rules'

interface TrialRow {
  job_id: number
  settings: Settings
  by: number
  at: string
  stories: Story[] | null
  state: NoticingState | null
  until_save: string | null
}

/** Begins to try settings on everything the ledger has; what is kept stays as it is until {@link keepTrial}. */
export async function beginTrial(db: Database, settings: Settings, personId: number): Promise<void> {
  const head = await db('ledger.head').first<{ last_save_id: string }>('last_save_id')
  await db.transaction(async (trx) => {
    const { job, fresh } = await ask(trx, {
      kind: 'noticing-trial',
      subject: allRules,
      words: 'Trying on the whole past how Spoor notices',
      personId,
      total: head.last_save_id,
    })
    if (!fresh)
      throw new Problem('trial-running', 'Settings are being tried already. Stop that first, or wait until it is done.')
    await trx('spoor.noticing_trial').delete()
    await trx('spoor.noticing_trial').insert({ job_id: job.id, settings: JSON.stringify(settings), by: personId })
  })
}

/** Reads the whole ledger with the settings that are being tried. */
export class NoticingTrials implements JobHandler {
  readonly kind = 'noticing-trial'
  readonly #db: Database
  constructor(db: Database) {
    this.#db = db
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const db = this.#db
    const { settings } = (await db('spoor.noticing_trial').where({ job_id: job.id }).first<TrialRow>('settings'))!
    const world = await readWorld(db, settings.zone)
    const noticer = new Noticer(settings.rules, world)
    const stories = new Map<string, Story>()
    let until = '0'
    for (;;) {
      const saves = await readNoticed(db, until, slice, world.withGaps)
      for (const save of saves) noticer.take(save)
      for (const story of noticer.drain()) stories.set(story.id, story)
      until = saves.at(-1)?.id ?? until
      if (saves.length < slice) break
      await job.progress({ done: BigInt(until), doing: 'reading saves' })
      await breathe()
    }
    await db('spoor.noticing_trial')
      .where({ job_id: job.id })
      .update({
        stories: JSON.stringify([...stories.values()]),
        state: JSON.stringify(noticer.state),
        until_save: until,
      })
    return { words: `${counted(stories.size, 'story')} would have been told. Nothing changes until they are kept.` }
  }
}

export async function stopTrial(db: Database): Promise<void> {
  await askToStop(db, 'noticing-trial', allRules)
}

const mostShown = 20

/** How the trial stands, and, once it is done, what would be different. */
export async function readTrial(db: Database): Promise<NoticingTrial | null> {
  const row = await db('spoor.noticing_trial').first<TrialRow | undefined>('*')
  if (!row) return null
  const job = (await db<JobRow>('spoor.job').where({ id: row.job_id }).first())!
  const head = {
    settings: settingsFrom(row.settings),
    running: job.ended_at === null,
    done: Number(job.done),
    total: Number(job.total),
    trouble:
      job.outcome === 'stopped'
        ? 'Stopped. The settings in force stay as they were.'
        : job.outcome === 'failed'
          ? `The trial was broken off: ${job.result}`
          : null,
  }
  if (row.stories === null) return { ...head, outcome: null }
  const before = await db('spoor.story').select<StoryRow[]>('*')
  const known = new Set(before.map((story) => story.story))
  const told = new Set(row.stories.map((story) => story.id))
  const gone = before.filter((story) => !told.has(story.story))
  const added = row.stories.filter((story) => !known.has(story.id))
  const rulesOf = ({ reasons }: { reasons: readonly Reason[] }) =>
    [...new Set(reasons.map((reason) => reason.rule))].join()
  const tellings = new Map(before.map((story) => [story.story, `${story.saves} ${rulesOf(story)}`]))
  const changed = row.stories.filter(
    (story) => tellings.has(story.id) && tellings.get(story.id) !== `${story.count} ${rulesOf(story)}`,
  )
  const workdays = await spellOf(db)
  return {
    ...head,
    outcome: {
      before: before.length,
      after: row.stories.length,
      workdays,
      gone: gone.length,
      added: added.length,
      changed: changed.length,
      goneExamples: await storiesShown(db, gone.slice(-mostShown)),
      changedExamples: await shownUnkept(db, changed.slice(-mostShown)),
      addedExamples: await shownUnkept(db, added.slice(-mostShown)),
    },
  }
}

/** Working days, Monday to Friday, on which anything was saved. */
async function spellOf(db: Database): Promise<number> {
  const { rows } = await db.raw<{ rows: { days: string }[] }>(
    `select count(distinct (hour at time zone 'UTC')::date) as days from ledger.hour_kind where extract(isodow from hour at time zone 'UTC') < 6`,
  )
  return Number(rows[0]!.days)
}

/** Stories that are not kept yet have no number: they are shown by a negative one, and with the label of their record. */
async function shownUnkept(db: Database, stories: readonly Story[]) {
  const firsts = stories.map((story) => story.saves[0] ?? '0')
  const saves = await db('ledger.save')
    .whereRaw('id = any(?::bigint[])', [boundArray(firsts)])
    .select<{ id: string; type_id: number; record_key: string; label: string }[]>(
      'id',
      'type_id',
      'record_key',
      'label',
    )
  return stories.map((story, at) => {
    const first = saves.find((save) => save.id === story.saves[0])
    return {
      id: -1 - at,
      reasons: story.reasons.map((reason) => ({ ...reason })),
      saves: story.count,
      records: story.records,
      from: new Date(story.fromMs).toISOString(),
      to: new Date(story.toMs).toISOString(),
      actors: [...story.actors],
      types: [...story.types],
      about: first ? { typeId: first.type_id, key: first.record_key, label: first.label } : null,
      examples: [],
      settled: null,
    }
  })
}

/** Puts tried settings in force with the stories that the trial told; noticing goes on from where the trial ended. */
export async function keepTrial(db: Database, personId: number): Promise<void> {
  await db.transaction(async (trx) => {
    await trx.raw('lock table spoor.noticing_trial in exclusive mode')
    const row = await trx('spoor.noticing_trial').first<TrialRow | undefined>('*')
    if (!row || row.stories === null || row.state === null)
      throw new Problem('trial-unfinished', 'There are no settings that were tried to the end. Nothing was changed.')
    await trx('spoor.noticing').update({
      settings: JSON.stringify(row.settings),
      state: JSON.stringify(row.state),
      until_save: row.until_save,
      read_save: row.until_save,
      changed_by: personId,
      changed_at: trx.fn.now(),
    })
    await trx('spoor.story')
      .whereRaw('story <> all(?::text[])', [boundArray(row.stories.map((story) => story.id))])
      .delete()
    await keepStories(trx, row.stories)
    await trx('spoor.noticing_trial').delete()
  })
}
