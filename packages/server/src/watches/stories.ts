import type { Saying, StoryShown } from '@spoor/contract'
import type { Scope } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { whereScopes } from '../ledger/scope-sql.ts'
import { headlinesOf } from '../noticing/names.ts'
import { storiesById, storiesShown, withoutValues } from '../noticing/stories.ts'
import { savesNamed } from './in-watch.ts'
import { unlessKnown } from './known.ts'

export interface StoryIn {
  id: number
  story: string
  saves: number
  from_at: string
  to_at: string
  /** The first of its saves. */
  save_ids: string[]
  actors: number[]
}

/**
 * Stories that nobody settled and of which a save is in scope, oldest first.
 * @param from of saves from then on
 * @param foundFrom told from then on
 * @param notBy a watch that did not tell of them
 */
export async function storiesIn(
  db: Database,
  scopes: readonly Scope[],
  {
    from,
    foundFrom,
    notBy,
    nowMs,
    most,
  }: { from: string; foundFrom?: string; notBy?: number; nowMs: number; most: number },
): Promise<StoryIn[]> {
  const query = db('spoor.story as t')
    .whereNull('t.settled_at')
    .where('t.to_at', '>=', from)
    .whereExists((inside) => {
      void inside
        .select(db.raw('1'))
        .from('spoor.story_save as m')
        .join('ledger.save as s', 's.id', 'm.save_id')
        .whereRaw('m.story_id = t.id')
        // Stories keep their times to the millisecond.
        .whereRaw("s.captured_at between t.from_at and t.to_at + interval '1 millisecond'")
      whereScopes(inside, scopes, 'save', 's', nowMs)
    })
    .orderBy('t.id')
    .limit(most)
  if (foundFrom !== undefined) void query.where('t.found_at', '>=', foundFrom)
  if (notBy !== undefined) unlessKnown(query, notBy, "'story:' || t.story")
  return await query.select<StoryIn[]>(
    't.id',
    't.story',
    't.saves',
    't.from_at',
    't.to_at',
    't.actors',
    db.raw(
      `array(select m.save_id::text from spoor.story_save m where m.story_id = t.id order by m.save_id limit ${savesNamed}) as save_ids`,
    ),
  )
}

/** What stands out as a message says it, by the story's number: without any value or what would tell of one. */
export async function sayStories(db: Database, stories: readonly StoryShown[]): Promise<Map<number, Saying>> {
  const headlines = await headlinesOf(db, stories.map(withoutValues))
  return new Map([...headlines].map(([id, words]) => [id, { words, path: `/changes?state=s${id}` }]))
}

/** The same of stories by their numbers. */
export const sayStoriesById = async (db: Database, ids: readonly number[]): Promise<Map<number, Saying>> =>
  await sayStories(db, await storiesShown(db, await storiesById(db, ids)))
