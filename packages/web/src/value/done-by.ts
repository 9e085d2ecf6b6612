import type { Save, SpoorEvent } from '@spoor/contract'

/** Who did what was done in Spoor itself. What it does about its ledger nobody signed in for. */
export function doneBy({ by, kind }: Pick<SpoorEvent, 'by' | 'kind'>): string {
  return by ?? (kind === 'custody' ? 'Spoor' : 'Somebody')
}

/** Who made a save: under the name they are known by now, with the one it was made under, or for whom they acted. */
export function saver({ actor, onBehalfOf }: Pick<Save, 'actor' | 'onBehalfOf'>): string {
  if (actor.knownAs) return `${actor.knownAs} (${actor.name})`
  return actor.kind === 'delegate' && onBehalfOf ? `${actor.name} for ${onBehalfOf}` : actor.name
}
