import type { SpoorEvent } from '@spoor/contract'

/** Who did what was done in Spoor itself. What it does about its ledger nobody signed in for. */
export function doneBy({ by, kind }: Pick<SpoorEvent, 'by' | 'kind'>): string {
  return by ?? (kind === 'custody' ? 'Spoor' : 'Somebody')
}
