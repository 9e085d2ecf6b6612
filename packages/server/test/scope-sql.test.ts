import fc from 'fast-check'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { actorKinds, matches, type Scope, type ScopedChange } from '@spoor/core'
import { anyScope } from '../../core/src/scope/scope.arbitrary.ts'
import { savePage } from '../src/changes/queries/saves.ts'
import { summarise } from '../src/changes/queries/summary.ts'
import { makeWorld, type World } from './support.ts'

type Made = ScopedChange & { saveId: string }

let world: World
let changes: Made[]
const nowMs = Date.parse('2026-04-20T12:00:00Z')
const keys = ['["1"]', '["2"]', '["a,b","!:é"]', '["=1"]']

beforeAll(async () => {
  world = await makeWorld('select 1')
  const { db } = world
  changes = []
  for (const id of [1, 2, 3, 4, 5, 6])
    await db.raw(`insert into spoor.actor (kind, name) values (?, ?)`, [actorKinds[id - 1]!, `actor ${id}`])
  for (const month of ['2026-03-01', '2026-04-01', '2026-05-01'])
    await db.raw('select ledger.ensure_month(?::date)', [month])
  for (let save = 1; save <= 300; save++) {
    const actorId = 1 + ((save * 7) % 6)
    const typeId = 1 + ((save * 5) % 4)
    const key = keys[(save * 3) % keys.length]!
    const at = new Date(Date.parse('2026-03-01T00:00:00Z') + save * 15_731_000).toISOString()
    const actorKind = actorKinds[actorId - 1]!
    const parent = save % 3 === 0 ? { typeId: 1 + (save % 4), key: keys[save % keys.length]! } : null
    const line = { parent_type_id: parent?.typeId ?? null, parent_key: parent?.key ?? null }
    await db('ledger.save').insert({
      id: save, captured_at: at, source_id: world.sourceId, type_id: typeId, record_key: key, label: `record ${key}`, action: 'change', actor_id: actorId,
      actor_kind: actorKind, claimed: false, channel: 'screen', db_login: 'x', transaction_id: String(save), plan_version: 1, outbox_seq: save, ...line,
    }) // prettier-ignore
    for (const fieldId of new Set([1 + (save % 6), 1 + ((save * 11) % 6)])) {
      await db('ledger.change').insert({
        save_id: save,
        captured_at: at,
        field_id: fieldId,
        type_id: typeId,
        record_key: key,
        actor_id: actorId,
        actor_kind: actorKind,
        before: 'a',
        after: 'b',
        ...line,
      })
      changes.push({ saveId: String(save), actorId, actorKind, typeId, fieldId, key, parent, atMs: Date.parse(at) })
    }
  }
})
afterAll(() => world.close())

const expected = (scopes: readonly Scope[]) =>
  changes.filter((change) => scopes.every((scope) => matches(scope, change, nowMs)))

async function everySave(scopes: readonly Scope[], limit: number): Promise<string[]> {
  const ids: string[] = []
  for (let after: string | undefined; ;) {
    const page = await savePage(world.db, scopes, { after, limit, nowMs })
    ids.push(...page.saves.map((save) => save.id))
    if (page.next === null) return ids
    after = page.next
  }
}

describe('SQL and in-memory matching agree on random scopes', () => {
  it('in counts', async () => {
    await fc.assert(
      fc.asyncProperty(anyScope, async (scope) => {
        const wanted = expected([scope])
        expect(await summarise(world.db, [scope], nowMs)).toMatchObject({
          saves: new Set(wanted.map((c) => c.saveId)).size,
          changes: wanted.length,
        })
      }),
      { numRuns: 150 },
    )
  })

  it('in pages of any size, newest first, none missing, none twice', async () => {
    await fc.assert(
      fc.asyncProperty(anyScope, anyScope, fc.integer({ min: 7, max: 120 }), async (scope, reach, limit) => {
        const wanted = [...new Set(expected([scope, reach]).map((change) => Number(change.saveId)))]
          .sort((a, b) => b - a)
          .map(String)
        expect(await everySave([scope, reach], limit)).toEqual(wanted)
      }),
      { numRuns: 60 },
    )
  })

  it('in which changes of a save are in scope', async () => {
    await fc.assert(
      fc.asyncProperty(anyScope, async (scope) => {
        const page = await savePage(world.db, [scope], { after: undefined, limit: 200, nowMs })
        const shown = page.saves.flatMap((save) =>
          save.changes.filter((change) => change.inScope).map((change) => `${save.id}/${change.fieldId}`),
        )
        const onPage = new Set(page.saves.map((save) => save.id))
        expect(shown.sort()).toEqual(expected([scope]).filter((c) => onPage.has(c.saveId)).map((c) => `${c.saveId}/${c.fieldId}`).sort()) // prettier-ignore
      }),
      { numRuns: 60 },
    )
  })
})
