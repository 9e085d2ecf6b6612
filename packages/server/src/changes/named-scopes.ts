import { parseScope, parseWork } from '@spoor/core'
import type { NamedScope } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'

/** A person's own named scopes and, unless only those are asked for, the ones that others share. What a scope means is decided by who opens it. */
export async function listScopes(db: Database, personId: number, { ownOnly = false } = {}): Promise<NamedScope[]> {
  const rows = await db('spoor.named_scope as s')
    .join('spoor.person as p', 'p.id', 's.owner')
    .where((q) => (ownOnly ? q : q.where('s.shared', true)).orWhere('s.owner', personId))
    .orderByRaw('s.owner = ? desc, s.name', [personId])
    .select('s.id', 's.name', 's.scope', 's.shared', 's.owner', 'p.name as owner_name')
  return rows.map((row) => ({
    id: row.id,
    name: row.name,
    scope: row.scope,
    shared: row.shared,
    mine: row.owner === personId,
    owner: row.owner_name,
  }))
}

export async function nameScope(
  db: Database,
  personId: number,
  { name, scope, shared }: { name: string; scope: string; shared: boolean },
): Promise<NamedScope> {
  // A reading that was worked out of it is kept with its scope.
  const entries = [...new URLSearchParams(scope)]
  const { problems } = parseScope(entries.filter(([name]) => name !== 'work'))
  const works = entries.flatMap(([name, value]) => (name === 'work' ? [value] : []))
  if (works.length > 1 || works.some((work) => parseWork(work) === null))
    throw new Problem('bad-scope', 'What is worked out there is not understood. Nothing was kept.')
  if (problems.length > 0)
    throw new Problem('bad-scope', 'A scope that is not understood cannot be kept. Nothing was kept.', {
      pieces: problems,
    })
  await db('spoor.named_scope').insert({ owner: personId, name, scope, shared }).onConflict(['owner', 'name']).merge()
  return (await listScopes(db, personId)).find((one) => one.mine && one.name === name)!
}

export async function removeScope(db: Database, personId: number, id: number): Promise<void> {
  const gone = await db('spoor.named_scope').where({ id, owner: personId }).delete()
  if (gone === 0) throw new Problem('not-found', 'You have no such named scope. Nothing was removed.')
}
