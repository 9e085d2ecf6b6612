import type { CorrectionItem } from '@spoor/contract'

type State = CorrectionItem['state']

/** What became of a value of a correction that was applied. */
const applied: Readonly<Record<State, string>> = {
  'changed-since': 'kept as found',
  blocked: 'not written',
  clear: 'not written',
  follows: 'worked out by the source',
  'already-so': 'already so',
}

export const becameWords = (state: State): string => applied[state]
