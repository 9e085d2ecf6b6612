import type { Scope } from '@spoor/core'
import type { Summary } from '@spoor/contract'
import type { Database } from '../../database/knex.ts'
import { storyHeadlines } from '../../noticing/names.ts'
import { reachIn } from '../../ledger/reach.ts'
import { caseQuestions } from '../../ledger/case-questions.ts'
import { whereScopes } from '../../ledger/scope-sql.ts'
import { gapsIn } from './gaps.ts'
import { recordNames, runNames } from './names.ts'
import { countsAnswer, fromCounts } from './rollup.ts'

/** Counting stops here; beyond it a count is said to be of more than this. */
const mostCounted = 200_000

/** How many saves and changes all scopes mean, exactly or "more than", and the labels of the records they name. */
export async function summarise(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Summary> {
  const [counts, recordLabels, runLabels, storyLabels, caseLabels, gaps] = await Promise.all([
    countsAnswer(scopes, nowMs) ? fromHours(db, scopes, nowMs) : oneByOne(db, scopes, nowMs),
    labels(db, scopes, nowMs),
    namesOfRuns(db, scopes, nowMs),
    storyHeadlines(db, scopes),
    caseQuestions(db, scopes),
    gapsIn(db, scopes, nowMs),
  ])
  return { ...counts, gaps, recordLabels, runLabels, storyLabels, caseLabels }
}

type Counts = Pick<Summary, 'saves' | 'changes' | 'about'>

async function fromHours(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Counts> {
  const row = (await fromCounts(db, scopes, nowMs, 'kinds')
    .sum({ saves: 'r.saves', changes: 'r.changes' })
    .first()) as {
    saves: string | null
    changes: string | null
  }
  return { saves: Number(row.saves ?? 0), changes: Number(row.changes ?? 0), about: false }
}

async function oneByOne(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Counts> {
  const count = async (level: 'save' | 'change') => {
    const rows = db(`ledger.${level} as r`)
      .select(db.raw('1'))
      .limit(mostCounted + 1)
    whereScopes(rows, scopes, level, 'r', nowMs)
    const [row] = await db.from(rows.as('counted')).count<{ count: string }[]>('* as count')
    return Number(row?.count ?? 0)
  }
  const [saves, changes] = await Promise.all([count('save'), count('change')])
  return {
    saves: Math.min(saves, mostCounted),
    changes: Math.min(changes, mostCounted),
    about: saves > mostCounted || changes > mostCounted,
  }
}

/** Records that a scope names, by what they are called. */
async function labels(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Record<string, string>> {
  return Object.fromEntries(await recordNames(db, scopes[0]?.record?.records ?? [], reachIn(scopes), nowMs))
}

/** Runs by what they called themselves; for whoever sees a part of the trail only, with as many saves as they may see. */
async function namesOfRuns(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Record<string, string>> {
  const names = await runNames(db, (scopes[0]?.how?.runs ?? []).map(String), reachIn(scopes), nowMs)
  return Object.fromEntries([...names].map(([id, words]) => [id, `the run “${words}”`]))
}
