import type { Client } from 'pg'
import { BinaryRows } from './binary-rows.ts'
import { CountSums, SliceCounts } from './count-sums.ts'
import { recomputed, type ChangeRow, type Recomputed, type SaveRow } from './recompute.ts'
import { QuickLeaf, changeAt, saveAt } from './quick-leaf.ts'
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

const saveColumns = [
  'id', 'captured_at', 'collected_at', 'source_id', 'type_id', 'record_key', 'key_before', 'label', 'action', 'actor_id', 'actor_kind',
  'actor_name', 'claimed', 'on_behalf_of', 'channel', 'run', 'run_id', 'reason', 'correction_id', 'db_login', 'application_name',
  'client_address', 'transaction_id', 'plan_version', 'outbox_seq', 'parent_type_id', 'parent_key', 'leaf',
] // prettier-ignore

/** By their places in `saveColumns`. */
function saveOf(rows: BinaryRows): SaveRow {
  return {
    id: rows.long(0)!, captured_at: rows.instant(1)!, collected_at: rows.instant(2)!, source_id: rows.int(3)!, type_id: rows.int(4)!,
    record_key: rows.text(5)!, key_before: rows.text(6), label: rows.text(7)!, action: rows.text(8)!, actor_id: rows.int(9)!, actor_kind: rows.text(10)!,
    actor_name: rows.text(11), claimed: rows.bool(12)!, on_behalf_of: rows.text(13), channel: rows.text(14)!, run: rows.text(15), run_id: rows.long(16),
    reason: rows.text(17), correction_id: rows.int(18), db_login: rows.text(19)!, application_name: rows.text(20), client_address: rows.text(21),
    transaction_id: rows.text(22)!, plan_version: rows.int(23)!, outbox_seq: rows.long(24)!, parent_type_id: rows.int(25), parent_key: rows.text(26),
    leaf: rows.hex(27),
  } // prettier-ignore
}

const kept = (column: string) => `case when c.erased then (select ${column} from ledger.erased e where e.save_id = c.save_id and e.field_id = c.field_id) end` // prettier-ignore
const changeColumns = [
  'c.save_id', 'c.captured_at', 'c.field_id', 'c.type_id', 'c.record_key', 'c.actor_id', 'c.actor_kind', 'c.before', 'c.after', 'c.parent_type_id',
  'c.parent_key', 'c.rise::text', 'c.rise_share', 'c.salt', 'c.digest', 'c.erased', kept('e.before'), kept('e.after'), kept('true'),
] // prettier-ignore

type ChangeInSlice = ChangeRow & { captured_at: string }

function changeOf(rows: BinaryRows): ChangeInSlice {
  return {
    save_id: rows.long(0)!, captured_at: rows.instant(1)!, field_id: rows.int(2)!, type_id: rows.int(3)!, record_key: rows.text(4)!, actor_id: rows.int(5)!,
    actor_kind: rows.text(6)!, before: rows.text(7), after: rows.text(8), parent_type_id: rows.int(9), parent_key: rows.text(10), rise: rows.text(11),
    rise_share: rows.double(12), salt: rows.hex(13), digest: rows.hex(14), erased: rows.bool(15)!, kept_before: rows.text(16), kept_after: rows.text(17),
    kept: rows.bool(18) ?? false,
  } // prettier-ignore
}

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
  return new BinaryRows(client, `select ${saveColumns.join(', ')} from ledger.save where id >= ${from} and id < ${to} order by id`, saveColumns.length) // prettier-ignore
}

function changesOf(client: Client, from: bigint, to: bigint): BinaryRows {
  return new BinaryRows(client, `select ${changeColumns.join(', ')} from ledger.change c where c.save_id >= ${from} and c.save_id < ${to} order by c.save_id, c.field_id`, changeColumns.length) // prettier-ignore
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
  const countChange = () => counts.change(changes.number(changeAt.captured), changes.int(changeAt.type)!, changes.int(changeAt.field)!) // prettier-ignore
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
    const at = saves.number(saveAt.captured)
    let ownChanges = 0
    for (;;) {
      if (!changeIsHere && !changes.next()) {
        if (changes.ended) break
        await changes.arrive()
        continue
      }
      changeIsHere = true
      const of = changes.number(changeAt.save)
      if (of > id) break
      if (of === id && changes.number(changeAt.captured) === at) {
        quick.change(saves, changes)
        ownChanges++
      } else odd.add(Math.floor((of - from) / block))
      countChange()
      changeIsHere = false
    }
    counts.save(
      at,
      saves.int(saveAt.type)!,
      saves.int(saveAt.actor)!,
      saves.text(saveAt.kind)!,
      saves.text(saveAt.channel)!,
      saves.long(saveAt.runId),
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
    odd.add(Math.floor((changes.number(changeAt.save) - from) / block))
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
  const saves = savesOf(clients[0], from, to)
  const own = new ChangesBySave(changesOf(clients[1], from, to))
  const all: Recomputed[] = []
  for (;;) {
    if (!saves.next()) {
      if (saves.ended) break
      await saves.arrive()
      continue
    }
    const save = saveOf(saves)
    const id = Number(save.id)
    if (!own.gather(id)) await own.arrive(id)
    all.push(recomputed(save, own.of(save.captured_at)))
  }
  await own.arrive(Number.MAX_SAFE_INTEGER)
  const leaves = Buffer.alloc(Number(to - from) * leafBytes)
  for (const save of all) leaves.write(save.leaf, Number(BigInt(save.id) - from) * leafBytes, 'hex')
  const whole = all.length === Number(to - from) && all.every((save, at) => save.id === (from + BigInt(at)).toString() && isAsWritten(save)) // prettier-ignore
  return { leaves: new Uint8Array(leaves), saves: whole ? null : all, strays: own.strays }
}

/** The changes of one save after another, out of rows in the order of their saves. */
class ChangesBySave {
  readonly #rows: BinaryRows
  readonly strays: StrayChange[] = []
  #saveId = -1
  #own: ChangeInSlice[] = []
  /** Read, and of a later save. */
  #ahead: ChangeInSlice | null = null

  constructor(rows: BinaryRows) {
    this.#rows = rows
  }

  /** Takes the changes up to those of a save. @returns false when some of them have to be waited for */
  gather(saveId: number): boolean {
    if (saveId !== this.#saveId) {
      for (const change of this.#own) this.#stray(change)
      this.#own = []
      this.#saveId = saveId
    }
    for (;;) {
      const change = this.#ahead ?? (this.#rows.next() ? changeOf(this.#rows) : null)
      this.#ahead = null
      if (!change) return this.#rows.ended
      const of = Number(change.save_id)
      if (of > saveId) {
        this.#ahead = change
        return true
      }
      if (of === saveId) this.#own.push(change)
      else this.#stray(change)
    }
  }

  async arrive(saveId: number): Promise<void> {
    while (!this.gather(saveId)) await this.#rows.arrive()
  }

  /** Those of the save that say its time, by field; the others wait for another save of that number. */
  of(capturedAt: string): ChangeInSlice[] {
    const own = this.#own
    this.#own = own.filter((change) => change.captured_at !== capturedAt)
    return own.filter((change) => change.captured_at === capturedAt)
  }

  #stray(change: ChangeInSlice): void {
    if (this.strays.length < mostStrays) this.strays.push({ saveId: change.save_id, fieldId: change.field_id })
  }
}

/** Leaves that lie one behind the other. */
export function leavesOf(bytes: Uint8Array): Uint8Array[] {
  return Array.from({ length: bytes.length / leafBytes }, (_, at) => bytes.subarray(at * leafBytes, (at + 1) * leafBytes)) // prettier-ignore
}

/** Whether nothing is to be told of a save as far as it can be seen from itself. */
export function isAsWritten(save: Recomputed): boolean {
  return save.leaf === save.stored && save.changes.every((change) => change.stored === change.digest && change.strays.length === 0) // prettier-ignore
}
