import type { ActorKind } from '@spoor/core'

/** People are told from what runs by itself, and the unknown from both; each has a texture of its own, not only a tone. */
export const actorLayers: readonly { kinds: readonly ActorKind[]; name: string; look: string }[] = [
  { kinds: ['person', 'delegate'], name: 'people', look: 'people' },
  { kinds: ['import', 'integration'], name: 'imports and links', look: 'links' },
  { kinds: ['job'], name: 'jobs', look: 'jobs' },
  { kinds: ['unknown'], name: 'unknown', look: 'unknown' },
]

/** Saves of one layer in counts by kind. */
export function savesOf(kinds: readonly ActorKind[], saves: Readonly<Partial<Record<ActorKind, number>>>): number {
  return kinds.reduce((sum, kind) => sum + (saves[kind] ?? 0), 0)
}
