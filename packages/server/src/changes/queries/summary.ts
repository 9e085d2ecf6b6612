import { runWords, type RunKind, type Scope } from '@spoor/core'
import type { Summary } from '@spoor/contract'
import { boundArray, type Database } from '../../database/knex.ts'
import { storyHeadlines } from '../../noticing/names.ts'
import { isLimited, reachIn } from '../../ledger/reach.ts'
import { caseQuestions } from '../../ledger/case-questions.ts'
import { whereScope, whereScopes } from '../../ledger/scope-sql.ts'
import { gapsIn } from './gaps.ts'
import { seenRecord } from './seen-record.ts'
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

async function labels(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Record<string, string>> {
  const refs = scopes[0]?.record?.records ?? []
  if (refs.length === 0) return {}
  const reach = reachIn(scopes)
  const { rows } = await db.raw<{ rows: { type_id: number; record_key: string; label: string; name: string }[] }>(
    `select r.type_id, r.record_key, r.label, t.name
       from unnest(?::int[], ?::text[]) as wanted(type_id, record_key)
       join ${isLimited(reach) ? 'lateral ?' : 'spoor.record'} r using (type_id, record_key) join spoor.record_type t on t.id = r.type_id`,
    [
      boundArray(refs.map((ref) => ref.typeId)),
      boundArray(refs.map((ref) => ref.key)),
      ...(isLimited(reach) ? [seenRecord(db, reach, nowMs, 'wanted')] : []),
    ],
  )
  return Object.fromEntries(rows.map((row) => [`t${row.type_id}:${row.record_key}`, `${row.name} ${row.label}`]))
}

/** Runs by what they called themselves; for whoever sees a part of the trail only, with as many saves as they may see. */
async function namesOfRuns(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Record<string, string>> {
  const ids = scopes[0]?.how?.runs ?? []
  if (ids.length === 0) return {}
  const reach = reachIn(scopes)
  const runs = db('ledger.run as n').whereIn('n.id', [...ids])
  if (isLimited(reach)) {
    void runs
      .join('ledger.save as s', 's.run_id', 'n.id')
      .groupBy('n.id')
      .select('n.id', 'n.kind', 'n.declared', db.raw('count(*) as saves'))
    whereScope(runs, reach, 'save', 's', nowMs)
  } else void runs.select('n.id', 'n.kind', 'n.declared', 'n.saves')
  const rows = (await runs) as { id: string; kind: RunKind; declared: string | null; saves: string }[]
  return Object.fromEntries(
    rows.map((row) => [row.id, `the run “${runWords(row.kind, row.declared, Number(row.saves))}”`]),
  )
}
