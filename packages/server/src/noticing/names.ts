import type { StoryShown } from '@spoor/contract'
import { storyHeadline, toldStory, type ActorKind, type RecordRef, type Scope, type StoryNames } from '@spoor/core'
import { isLimited, reachIn } from '../ledger/reach.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { storiesById, storiesShown } from './stories.ts'

/** Names for telling a story outside the browser. */
export async function namesFor(
  db: Database,
  wanted: { actors: readonly number[]; types: readonly number[]; fields: readonly number[] },
  only: { ref: RecordRef; label: string } | null,
): Promise<StoryNames> {
  const [actors, types, fields] = await Promise.all([
    db('spoor.actor')
      .whereRaw('id = any(?::int[])', [boundArray(wanted.actors)])
      .select<{ id: number; name: string; kind: ActorKind }[]>('id', 'name', 'kind'),
    db('spoor.record_type')
      .whereRaw('id = any(?::int[])', [boundArray(wanted.types)])
      .select<{ id: number; plural: string }[]>('id', 'plural'),
    db('spoor.field')
      .whereRaw('id = any(?::int[])', [boundArray(wanted.fields)])
      .select<{ id: number; name: string; type_id: number }[]>('id', 'name', 'type_id'),
  ])
  return {
    actor: (id) => actors.find((actor) => actor.id === id)?.name,
    actorKind: (id) => actors.find((actor) => actor.id === id)?.kind,
    type: (id) => types.find((type) => type.id === id)?.plural,
    field: (id) => {
      const field = fields.find((one) => one.id === id)
      return field && { name: field.name, typeId: field.type_id }
    },
    record: (ref) => (only && ref.typeId === only.ref.typeId && ref.key === only.ref.key ? only.label : undefined),
    run: () => undefined,
    only: only?.ref ?? null,
  }
}

/** What stands out in the stories that a scope names, by number. Whoever sees a part of the trail only is not told. */
export async function storyHeadlines(db: Database, scopes: readonly Scope[]): Promise<Record<string, string>> {
  const ids = scopes[0]?.state?.stories ?? []
  if (ids.length === 0 || isLimited(reachIn(scopes))) return {}
  const stories = await storiesShown(db, await storiesById(db, ids))
  return Object.fromEntries(await headlinesOf(db, stories))
}

/** What happened, each in one sentence without a full stop, by the story's number. */
export async function headlinesOf(db: Database, stories: readonly StoryShown[]): Promise<Map<number, string>> {
  const names = await namesFor(
    db,
    {
      actors: stories.flatMap(({ actors }) => actors),
      types: stories.flatMap(({ types }) => types),
      fields: stories.flatMap(({ reasons }) => reasons.flatMap(({ fieldId }) => fieldId ?? [])),
    },
    null,
  )
  return new Map(
    stories.map((story) => {
      const only = story.records === 1 ? story.about : null
      return [story.id, storyHeadline(toldStory(story), { ...names, record: () => only?.label, only })]
    }),
  )
}
