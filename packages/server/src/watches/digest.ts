import type { Saying, Waiting } from '@spoor/contract'
import { counted, digestSentences, digestText, listed, parseScope } from '@spoor/core'
import { countAlarms } from '../alarms/alarms.ts'
import type { Database } from '../database/knex.ts'
import type { SignedIn } from '../http/bind.ts'
import { namesFor } from '../noticing/names.ts'
import { waitingFor } from '../review/review.ts'
import { requestedScopes } from '../scope/request.ts'
import { today, type Asked } from '../today/today.ts'
import { sayStories } from './stories.ts'

/** So many of the stories are told one by one. */
const mostStories = 20

/** What Today shows somebody of a spell, without any value: its sentences, what stands out, alarms, and what waits for them. */
export async function sayToday(db: Database, person: SignedIn, asked: Required<Asked>): Promise<Saying[]> {
  const [, ...limits] = await requestedScopes(db, '', person)
  const shown = await today(db, person, limits, asked)
  const { scope } = parseScope(new URLSearchParams(shown.scope))
  const types = [shown.run?.typeId, shown.type?.id].filter((id) => id !== undefined)
  const names = await namesFor(db, { actors: [], types, fields: [] }, null)
  const stories = shown.stories ?? []
  const sentences = digestText(digestSentences({ ...shown, scope, stories: shown.stories?.length ?? null }, names))
  const told = await sayStories(db, stories.slice(0, mostStories))
  const alarms = [...(await countAlarms(db)).values()].reduce((sum, count) => sum + count, 0)
  const waits = waitingWords(await waitingFor(db, person))
  return [
    { words: sentences.trim(), path: `/changes?${shown.scope}` },
    ...told.values(),
    ...(stories.length > mostStories
      ? [{ words: `${counted(stories.length - mostStories, 'more thing')} that stand out`, path: '/today' }]
      : []),
    ...(alarms === 0 ? [] : [{ words: `${counted(alarms, 'alarm')} to be settled`, path: '/today#alarms' }]),
    ...(waits === null ? [] : [{ words: `For you: ${waits}`, path: '/today' }]),
  ]
}

/** "2 saves to look at, 1 question to answer and 1 correction to apply"; null where nothing waits. */
function waitingWords(waiting: Waiting): string | null {
  const parts: [number, string, string?][] = [
    [waiting.assigned.length, 'assignment'],
    [waiting.toAnswer.length, 'question to answer', 'questions to answer'],
    [waiting.answered.length, 'answer to your questions', 'answers to your questions'],
    [waiting.flagged, 'flagged save'],
    [waiting.plans.length, 'tracking plan to approve', 'tracking plans to approve'],
    [waiting.erasures.length, 'erasure to decide', 'erasures to decide'],
    [waiting.corrections.length, 'correction to apply', 'corrections to apply'],
    [waiting.sentBack.length, 'correction sent back', 'corrections sent back'],
    [waiting.cases.length, 'open case'],
  ]
  const there = parts.flatMap(([count, one, many]) => (count === 0 ? [] : [counted(count, one, many)]))
  return there.length === 0 ? null : listed(there)
}
