import type { Knex } from 'knex'
import { fillingNodes, leafDigits, notAskedFor, savesHeading, toBase64, joinBytes, type Scope } from '@spoor/core'
import { recomputeSaves } from '../custody/recompute.ts'
import { extentOf, Tree } from '../custody/tree.ts'
import { changesIn, savesIn } from '../ledger/in-scope.ts'
import { whyClosed, type Closings } from './closings.ts'

const atOnce = 1000

export interface PackedSeal {
  note: string
  size: number
}

export interface SavesWanted {
  scopes: readonly Scope[]
  nowMs: number
  seal: PackedSeal | null
  keyLine: string | null
  closings: Closings
  /** How many were written. */
  onProgress(saves: number): Promise<void>
}

/** What was written, for the first page. */
export interface SavesTold {
  saveIds: string[]
  changes: number
  unsealed: number
  /** By field and why: how many values cannot be read. */
  closed: Map<string, { fieldId: number; why: string; values: number }>
}

export const erasedWhy = 'erased by law'

/**
 * The saves of all scopes as lines of JSON, by their number, with one proof for all of them (docs/proof.md, rules 17 and 18).
 * @param trx sees one moment of the ledger throughout
 */
export async function* packedSaves(
  trx: Knex.Transaction,
  wanted: SavesWanted,
  told: SavesTold,
): AsyncGenerator<string> {
  const { scopes, nowMs, seal, keyLine, closings, onProgress } = wanted
  yield `${JSON.stringify({ spoor: savesHeading, seal: seal?.note ?? null, key: keyLine })}\n`
  const { first } = await extentOf(trx)
  const size = seal?.size ?? 0
  const tree = new Tree(trx, first).remembering()
  let filled = 0
  const filling = async (to: number) => {
    const nodes: Uint8Array[] = []
    for (const node of fillingNodes(filled, to)) nodes.push(await tree.nodeAt(node))
    filled = to
    return toBase64(joinBytes(...nodes))
  }
  for await (const page of pagesOf(trx, scopes, nowMs)) {
    const asked = new Map(page.map(({ id, fields }) => [id, new Set(fields)]))
    for (const save of await recomputeSaves(trx, [...asked.keys()])) {
      const index = Number(BigInt(save.id) - first)
      const sealed = index >= 0 && index < size
      const fill = sealed ? await filling(index) : ''
      if (sealed) filled = index + 1
      else told.unsealed++
      const shut: Record<string, string> = {}
      const openings = []
      for (const { fieldId, salt, before, after, erased } of save.changes) {
        const isAsked = asked.get(save.id)!.has(fieldId)
        const why = isAsked
          ? erased
            ? erasedWhy
            : whyClosed(closings, { save_id: save.id, field_id: fieldId })
          : notAskedFor
        if (isAsked) told.changes++
        if (why === undefined) openings.push({ fieldId, salt, before, after })
        else {
          shut[fieldId] = why
          if (isAsked) count(told, fieldId, why)
        }
      }
      const { canonical } = save
      yield `${JSON.stringify({ index: sealed ? index : null, leaf: save.leaf.slice(0, leafDigits), fill, canonical, openings, closed: shut })}\n`
      told.saveIds.push(save.id)
    }
    await onProgress(told.saveIds.length)
  }
  yield `${JSON.stringify({ saves: told.saveIds.length, fill: await filling(size) })}\n`
}

function count(told: SavesTold, fieldId: number, why: string): void {
  const key = `${fieldId} ${why}`
  const one = told.closed.get(key) ?? { fieldId, why, values: 0 }
  one.values++
  told.closed.set(key, one)
}

/** The saves that are meant, by number, with the fields of each that were asked for. */
async function* pagesOf(
  trx: Knex.Transaction,
  scopes: readonly Scope[],
  nowMs: number,
): AsyncGenerator<{ id: string; fields: number[] }[]> {
  const [saves] = savesIn(trx, scopes, nowMs)
  // Both one behind the other and not joined: of a hundred thousand saves of one moment the planner expects one.
  const { sql, bindings } = trx
    .with('w', saves)
    .with('c', changesIn(trx, scopes, nowMs))
    .from(trx.raw('(select id, null::int as field_id from w union all select id, field_id from c) u'))
    .groupBy('u.id')
    .orderBy('u.id')
    .select('u.id', trx.raw(`coalesce(array_agg(u.field_id) filter (where u.field_id is not null), '{}') as fields`))
    .toSQL()
  await trx.raw(`declare packed no scroll cursor for ${sql}`, bindings as string[])
  for (;;) {
    const { rows } = await trx.raw<{ rows: { id: string; fields: number[] }[] }>(`fetch ${atOnce} from packed`)
    if (rows.length === 0) break
    yield rows
  }
  await trx.raw('close packed')
}
