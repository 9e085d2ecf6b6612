import type { StoryShown } from '@spoor/contract'
import type { ActorKind, StoryNames } from '@spoor/core'
import type { NamedVocabulary } from '../scope/vocabulary.ts'

/** The names that one story is told with. */
export function storyNames(story: StoryShown, names: NamedVocabulary): StoryNames {
  const kinds = new Map<number, ActorKind>(names.actors.map((actor) => [actor.id, actor.kind]))
  const { about } = story
  return {
    ...names,
    actorKind: (id) => kinds.get(id),
    record: (ref) => (about && ref.typeId === about.typeId && ref.key === about.key ? about.label : names.record(ref)),
    only: about && story.records === 1 ? about : null,
  }
}
