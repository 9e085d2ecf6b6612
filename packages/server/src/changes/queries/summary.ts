import { runWords, type RunKind, type Scope } from '@spoor/core'
import type { Summary } from '@spoor/contract'
import { boundArray, type Database } from '../../database/knex.ts'
import { storyHeadlines } from '../../noticing/names.ts'
import { whereScopes } from '../scope-sql.ts'
import { gapsIn } from './gaps.ts'
import { countsAnswer, fromCounts } from './rollup.ts'

/** Counting stops here; beyond it a count is said to be of more than this. */
const mostCounted = 200_000

/** How many saves and changes all scopes mean, exactly or "more than", and the labels of the records they name. */
export async function summarise(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Summary> {
  const [counts, recordLabels, runLabels, storyLabels, gaps] = await Promise.all([
    countsAnswer(scopes, nowMs) ? fromHours(db, scopes, nowMs) : oneByOne(db, scopes, nowMs),
    labels(db, scopes),
    namesOfRuns(db, scopes),
    storyHeadlines(db, scopes),
    gapsIn(db, scopes, nowMs),
  ])
  return { ...counts, gaps, recordLabels, runLabels, storyLabels }
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

async function labels(db: Database, scopes: readonly Scope[]): Promise<Record<string, string>> {
  const refs = scopes[0]?.record?.records ?? []
  if (refs.length === 0) return {}
  const { rows } = await db.raw<{ rows: { type_id: number; record_key: string; label: string; name: string }[] }>(
    `select r.type_id, r.record_key, r.label, t.name
       from unnest(?::int[], ?::text[]) as wanted(type_id, record_key)
       join spoor.record r using (type_id, record_key) join spoor.record_type t on t.id = r.type_id`,
    [boundArray(refs.map((ref) => ref.typeId)), boundArray(refs.map((ref) => ref.key))],
  )
  return Object.fromEntries(rows.map((row) => [`t${row.type_id}:${row.record_key}`, `${row.name} ${row.label}`]))
}

/** Runs by what they called themselves. Whoever sees only a part of the trail is not told how large they are. */
async function namesOfRuns(db: Database, scopes: readonly Scope[]): Promise<Record<string, string>> {
  const ids = scopes[0]?.how?.runs ?? []
  if (ids.length === 0 || scopes.some((scope, at) => at > 0 && scope.who !== undefined)) return {}
  const rows = await db('ledger.run')
    .whereIn('id', [...ids])
    .select<{ id: string; kind: RunKind; declared: string | null; saves: string }[]>('id', 'kind', 'declared', 'saves')
  return Object.fromEntries(
    rows.map((row) => [row.id, `the run “${runWords(row.kind, row.declared, Number(row.saves))}”`]),
  )
}
