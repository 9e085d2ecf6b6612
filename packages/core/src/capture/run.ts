import { counted } from '../words/list.ts'
import type { SaveAction } from './fold.ts'

/** How saves came to belong together. */
export type RunKind = 'declared' | 'transaction' | 'burst'

/** What decides which run a save belongs to. */
export interface RunnableSave {
  atMs: number
  transaction: string
  typeId: number
  actor: string
  channel: string
  /** The run its context declares, if any. */
  declared: string | null
  action: SaveAction
  fieldIds: readonly string[]
}

/** The place where a save's run is looked up. Runs of equal keys that touch in time are one. */
export interface RunKey {
  kind: RunKind
  key: string
  /** How long after its last save a run may still go on, in milliseconds. */
  openForMs: number
}

/** A file or job that says its own name may take its time; a burst is what a hand or a script does without pause. */
export const declaredOpenMs = 12 * 3_600_000
export const burstOpenMs = 60_000

/**
 * The key of a save's run: what its context declares; else its transaction, when that made several saves; else the
 * burst of the same actor, channel, type, action and fields.
 */
export function runKey(save: RunnableSave, savesInTransaction: number): RunKey {
  if (save.declared !== null)
    return { kind: 'declared', key: JSON.stringify([save.actor, save.declared]), openForMs: declaredOpenMs }
  if (savesInTransaction > 1) return { kind: 'transaction', key: save.transaction, openForMs: Number.MAX_SAFE_INTEGER }
  const fields = [...save.fieldIds].sort().join()
  return {
    kind: 'burst',
    key: JSON.stringify([save.actor, save.channel, save.typeId, save.action, fields]),
    openForMs: burstOpenMs,
  }
}

/** A run in words; `saves` counts the saves it has so far. */
export function runWords(kind: RunKind, declared: string | null, saves: number): string {
  if (kind === 'declared')
    return saves === 1 ? `${declared}, so far on its own` : `${declared}, ${counted(saves, 'save')}`
  if (saves === 1) return 'on its own'
  return kind === 'transaction'
    ? `one transaction of ${counted(saves, 'save')}`
    : `a burst of ${counted(saves, 'save')}, each within a minute of the one before`
}
