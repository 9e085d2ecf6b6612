import type { CorrectionItem } from '@spoor/contract'

type State = CorrectionItem['state']

/** What somebody has to decide on comes first. */
export const stateOrder: readonly State[] = ['changed-since', 'blocked', 'clear', 'follows', 'already-so']

const inDraft: Readonly<Record<State, string>> = {
  'changed-since': 'changed since',
  blocked: 'blocked',
  clear: 'clear',
  follows: 'worked out by the source',
  'already-so': 'already so',
}
const applied: Readonly<Record<State, string>> = {
  'changed-since': 'kept as it was',
  blocked: 'not written',
  clear: 'not written',
  follows: 'worked out by the source',
  'already-so': 'already so',
}

/** What becomes, or became, of a value. */
export function stateWords(state: State, draft: boolean): string {
  return (draft ? inDraft : applied)[state]
}
