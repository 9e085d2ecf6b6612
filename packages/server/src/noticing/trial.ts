import { setImmediate as breathe } from 'node:timers/promises'
import { Noticer, type NoticingState, type Reason, type Story } from '@spoor/core'
import type { NoticingTrial } from '@spoor/contract'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { readNoticed } from './read.ts'
import { settingsFrom, type Settings } from './settings.ts'
import { keepStories, storiesShown, type StoryRow } from './stories.ts'
import { readWorld } from './world.ts'

const slice = 5000
const saidEveryMs = 1000
/** A trial that has said nothing for so long lost its server. */
const lostAfterMs = 15_000

interface TrialRow {
  settings: Settings
  by: number
  at: string
  seen_at: string
  done: string
  total: string
  stop_asked: boolean
  trouble: string | null
  stories: Story[] | null
  state: NoticingState | null
  until_save: string | null
}

const isRunning = (row: TrialRow) =>
  row.stories === null && row.trouble === null && Date.now() - Date.parse(row.seen_at) < lostAfterMs

/** Begins to try settings on everything the ledger has; what is kept stays as it is until {@link keepTrial}. */
export async function beginTrial(
  db: Database,
  settings: Settings,
  personId: number,
): Promise<{ ended: Promise<void> }> {
  const total = await db('ledger.head').first<{ last_save_id: string }>('last_save_id')
  await db.transaction(async (trx) => {
    await trx.raw('lock table spoor.noticing_trial in exclusive mode')
    const before = await trx('spoor.noticing_trial').first<TrialRow | undefined>('*')
    if (before && isRunning(before))
      throw new Problem('trial-running', 'Settings are being tried already. Stop that first, or wait until it is done.')
    await trx('spoor.noticing_trial').delete()
    await trx('spoor.noticing_trial').insert({
      settings: JSON.stringify(settings),
      by: personId,
      total: total.last_save_id,
    })
  })
  const ended = run(db, settings).catch(async (error: unknown) => {
    // A server that stops takes the trial with it; then there is nothing left to write to.
    await db('spoor.noticing_trial')
      .update({ trouble: `The trial was broken off: ${(error as Error).message}` })
      .catch(() => undefined)
  })
  return { ended }
}

async function run(db: Database, settings: Settings): Promise<void> {
  const world = await readWorld(db, settings.zone)
  const noticer = new Noticer(settings.rules, world)
  const stories = new Map<string, Story>()
  let until = '0'
  let saidMs = performance.now()
  for (;;) {
    const saves = await readNoticed(db, until, slice, world.withGaps)
    for (const save of saves) noticer.take(save)
    for (const story of noticer.drain()) stories.set(story.id, story)
    until = saves.at(-1)?.id ?? until
    if (saves.length < slice) break
    if (performance.now() - saidMs > saidEveryMs) {
      const updated = await db('spoor.noticing_trial')
        .where({ stop_asked: false })
        .update({ done: until, seen_at: db.fn.now() })
      if (updated === 0) {
        await db('spoor.noticing_trial').update({ trouble: 'Stopped. The settings in force stay as they were.' })
        return
      }
      saidMs = performance.now()
    }
    await breathe()
  }
  await db('spoor.noticing_trial').update({
    done: until,
    seen_at: db.fn.now(),
    stories: JSON.stringify([...stories.values()]),
    state: JSON.stringify(noticer.state),
    until_save: until,
  })
}

export async function stopTrial(db: Database): Promise<void> {
  await db('spoor.noticing_trial').update({ stop_asked: true })
}

const mostShown = 20

/** How the trial stands, and, once it is done, what would be different. */
export async function readTrial(db: Database): Promise<NoticingTrial | null> {
  const row = await db('spoor.noticing_trial').first<TrialRow | undefined>('*')
  if (!row) return null
  const head = {
    settings: settingsFrom(row.settings),
    running: isRunning(row),
    done: Number(row.done),
    total: Number(row.total),
    trouble:
      row.trouble ??
      (row.stories === null && !isRunning(row) ? 'The server that tried them stopped. Try again.' : null),
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
