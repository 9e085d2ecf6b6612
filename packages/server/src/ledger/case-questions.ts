import type { Scope } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { isLimited, reachIn } from './reach.ts'

/** The questions of the cases that a scope names, by number. Whoever sees a part of the trail only is not told. */
export async function caseQuestions(db: Database, scopes: readonly Scope[]): Promise<Record<string, string>> {
  const ids = scopes[0]?.state?.cases ?? []
  if (ids.length === 0 || isLimited(reachIn(scopes))) return {}
  const rows = await db('spoor.case_file')
    .whereIn('id', [...ids])
    .select<{ id: number; question: string }[]>('id', 'question')
  return Object.fromEntries(rows.map(({ id, question }) => [String(id), question]))
}
