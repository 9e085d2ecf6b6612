import type { Client } from 'pg'
import { BinaryRows } from '../ledger/binary-rows.ts'
import { CountSums, SliceCounts } from './count-sums.ts'
import { recomputed, type Recomputed } from './recompute.ts'
import { QuickLeaf } from './quick-leaf.ts'
import {
  changeAt,
  changeColumns,
  changeOf,
  saveAt,
  saveColumns,
  saveOf,
  type TimedChange,
} from '../ledger/row-columns.ts'
import { fold } from './tree.ts'

/** As many leaves as a stored node of the lowest height covers; saves are compared by such blocks. */
export const block = 256
const leafBytes = 32
/** More changes without a save are not told one by one. */
const mostStrays = 50

/** Neighbours under one stored node, as they stand now. */
export interface Block {
  /** Leaves of the saves as they are now, one behind the other, and the root over them if there are 256. */
  leaves: Uint8Array
  root: Uint8Array | null
  /** Where nothing is to be told of any of them as far as it can be seen from themselves: nothing. Else all that are there. */
  saves: readonly Recomputed[] | null
}

/** A change that says it belongs to a save that was not made at its time. */
export interface StrayChange {
  saveId: string
  fieldId: number
}

export interface Slice {
  blocks: readonly Block[]
  strays: readonly StrayChange[]
  /** What the hourly counts and the runs have to say of these saves: words of {@link CountSums}. */
  counts: Uint32Array
}

/** Saves by their numbers, the last one not included. */
export interface SliceWanted {
  from: bigint
  to: bigint
  /** Of this check; see {@link CountSums}. */
  secret: string
  /** Whether only their counts are wanted. */
  countsOnly?: boolean
}

const kept = (column: string) =>
  `case when c.erased then (select ${column} from ledger.erased e where e.save_id = c.save_id and e.field_id = c.field_id) end`
/** What is not simply a column of a change. */
const madeColumns: Readonly<Partial<Record<(typeof changeColumns)[number], string>>> = {
  rise: 'c.rise::text',
  kept_before: kept('e.before'),
  kept_after: kept('e.after'),
  kept: kept('true'),
}
const changesWanted = changeColumns.map((column) => madeColumns[column] ?? `c.${column}`).join(', ')

/** Reads saves on one connection and their changes on another, and recomputes both. */
export async function readSlice(
  clients: Clients,
  { from, to, secret, countsOnly = false }: SliceWanted,
): Promise<Slice> {
  const size = Number(to - from)
  const blocks: Block[] = []
  const strays: StrayChange[] = []
  const sums = new CountSums(secret)
  const quick = await quickBlocks(clients, from, to, sums)
  if (countsOnly) return { blocks, strays, counts: sums.words }
  for (const [at, leaves] of quick.entries()) {
    const begin = from + BigInt(at * block)
    const end = begin + BigInt(Math.min(block, size - at * block))
    const slow = leaves ? null : await slowBlock(clients, begin, end)
    strays.push(...(slow?.strays ?? []))
    const all = leaves ?? slow!.leaves
    blocks.push({
      leaves: all,
      root: end - begin === BigInt(block) ? fold(leavesOf(all)) : null,
      saves: slow?.saves ?? null,
    })
  }
  return { blocks, strays, counts: sums.words }
}

export type Clients = readonly [Client, Client]

function savesOf(client: Client, from: bigint, to: bigint): BinaryRows {
  return new BinaryRows(
    client,
    `select ${saveColumns.join(', ')} from ledger.save where id >= ${from} and id < ${to} order by id`,
    saveColumns.length,
  )
}

function changesOf(client: Client, from: bigint, to: bigint): BinaryRows {
  return new BinaryRows(
    client,
    `select ${changesWanted} from ledger.change c where c.save_id >= ${from} and c.save_id < ${to} order by c.save_id, c.field_id`,
    changeColumns.length,
  )
}

/** Leaves by block, where all of a block is as it was written; null where something is to be looked at, or is unusual. */
export async function quickBlocks(
  clients: Clients,
  fromId: bigint,
  toId: bigint,
  sums: CountSums,
): Promise<(Uint8Array | null)[]> {
  const saves = savesOf(clients[0], fromId, toId)
  const changes = changesOf(clients[1], fromId, toId)
  const [from, size] = [Number(fromId), Number(toId - fromId)]
  const leaves = Buffer.alloc(size * leafBytes)
  const odd = new Set<number>()
  const quick = new QuickLeaf()
  const counts = new SliceCounts()
  let expected = from
  let changeIsHere = false
  const countChange = () =>
    counts.change(changes.number(changeAt.captured_at), changes.int(changeAt.type_id)!, changes.int(changeAt.field_id)!)
  for (;;) {
    if (!saves.next()) {
      if (saves.ended) break
      await saves.arrive()
      continue
    }
    const id = saves.number(saveAt.id)
    const blockAt = Math.floor((id - from) / block)
    // Saves come by number: one that is not the next is there twice, or another is missing.
    for (; expected < id; expected++) odd.add(Math.floor((expected - from) / block))
    if (expected !== id) odd.add(blockAt)
    else expected++
    const at = saves.number(saveAt.captured_at)
    let ownChanges = 0
    for (;;) {
      if (!changeIsHere && !changes.next()) {
        if (changes.ended) break
        await changes.arrive()
        continue
      }
      changeIsHere = true
      const of = changes.number(changeAt.save_id)
      if (of > id) break
      if (of === id && changes.number(changeAt.captured_at) === at) {
        quick.change(saves, changes)
        ownChanges++
      } else odd.add(Math.floor((of - from) / block))
      countChange()
      changeIsHere = false
    }
    counts.save(
      at,
      saves.int(saveAt.type_id)!,
      saves.int(saveAt.actor_id)!,
      saves.text(saveAt.actor_kind)!,
      saves.text(saveAt.channel)!,
      saves.long(saveAt.run_id),
      ownChanges,
    )
    const leaf = quick.leaf(saves)
    if (leaf === null) odd.add(blockAt)
    else leaves.write(leaf, (id - from) * leafBytes, 'hex')
  }
  for (; expected < from + size; expected++) odd.add(Math.floor((expected - from) / block))
  // Changes behind the last save.
  while (!changes.ended) {
    if (!changeIsHere && !changes.next()) {
      await changes.arrive()
      continue
    }
    odd.add(Math.floor((changes.number(changeAt.save_id) - from) / block))
    countChange()
    changeIsHere = false
  }
  counts.addTo(sums)
  return Array.from({ length: Math.ceil(size / block) }, (_, at) =>
    odd.has(at)
      ? null
      : new Uint8Array(leaves.subarray(at * block * leafBytes, Math.min(size, (at + 1) * block) * leafBytes)),
  )
}

/** All saves of a block with what follows from each, for whoever has to say what is wrong. */
async function slowBlock(
  clients: Clients,
  from: bigint,
  to: bigint,
): Promise<{ leaves: Uint8Array; saves: Recomputed[] | null; strays: readonly StrayChange[] }> {
  const [saves, changes] = await Promise.all([
    savesOf(clients[0], from, to).all(saveOf),
    changesOf(clients[1], from, to).all(changeOf),
  ])
  const bySave = new Map<string, TimedChange[]>()
  const placeOf = (capturedAt: string, saveId: string) => `${capturedAt} ${saveId}`
  for (const change of changes) {
    const place = placeOf(change.captured_at, change.save_id)
    const own = bySave.get(place)
    if (own) own.push(change)
    else bySave.set(place, [change])
  }
  const all = saves.map((save) => recomputed(save, bySave.get(placeOf(save.captured_at, save.id)) ?? []))
  for (const save of saves) bySave.delete(placeOf(save.captured_at, save.id))
  const strays = [...bySave.values()]
    .flat()
    .slice(0, mostStrays)
    .map((change) => ({ saveId: change.save_id, fieldId: change.field_id }))
  const leaves = Buffer.alloc(Number(to - from) * leafBytes)
  for (const save of all) leaves.write(save.leaf, Number(BigInt(save.id) - from) * leafBytes, 'hex')
  const whole =
    all.length === Number(to - from) &&
    all.every((save, at) => save.id === (from + BigInt(at)).toString() && isAsWritten(save))
  return { leaves: new Uint8Array(leaves), saves: whole ? null : all, strays }
}

/** Leaves that lie one behind the other. */
export function leavesOf(bytes: Uint8Array): Uint8Array[] {
  return Array.from({ length: bytes.length / leafBytes }, (_, at) =>
    bytes.subarray(at * leafBytes, (at + 1) * leafBytes),
  )
}

/** Whether nothing is to be told of a save as far as it can be seen from itself. */
export function isAsWritten(save: Recomputed): boolean {
  return (
    save.leaf === save.stored &&
    save.changes.every((change) => change.stored === change.digest && change.strays.length === 0)
  )
}
