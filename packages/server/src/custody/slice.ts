import type { Client } from 'pg'
import { BinaryRows } from './binary-rows.ts'
import { recomputed, type ChangeRow, type Recomputed, type SaveRow } from './recompute.ts'
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
}

const saveColumns = [
  'id', 'captured_at', 'collected_at', 'source_id', 'type_id', 'record_key', 'key_before', 'label', 'action', 'actor_id', 'actor_kind',
  'actor_name', 'claimed', 'on_behalf_of', 'channel', 'run', 'run_id', 'reason', 'correction_id', 'db_login', 'application_name',
  'client_address', 'transaction_id', 'plan_version', 'outbox_seq', 'parent_type_id', 'parent_key', 'leaf',
] // prettier-ignore

/** As `saveColumns` has them: calls of one object's members are made in the order in which they are written. */
function saveOf(rows: BinaryRows): SaveRow {
  return {
    id: rows.long()!, captured_at: rows.instant()!, collected_at: rows.instant()!, source_id: rows.int()!, type_id: rows.int()!,
    record_key: rows.text()!, key_before: rows.text(), label: rows.text()!, action: rows.text()!, actor_id: rows.int()!, actor_kind: rows.text()!,
    actor_name: rows.text(), claimed: rows.bool()!, on_behalf_of: rows.text(), channel: rows.text()!, run: rows.text(), run_id: rows.long(),
    reason: rows.text(), correction_id: rows.int(), db_login: rows.text()!, application_name: rows.text(), client_address: rows.text(),
    transaction_id: rows.text()!, plan_version: rows.int()!, outbox_seq: rows.long()!, parent_type_id: rows.int(), parent_key: rows.text(),
    leaf: rows.hex(),
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
    save_id: rows.long()!, captured_at: rows.instant()!, field_id: rows.int()!, type_id: rows.int()!, record_key: rows.text()!, actor_id: rows.int()!,
    actor_kind: rows.text()!, before: rows.text(), after: rows.text(), parent_type_id: rows.int(), parent_key: rows.text(), rise: rows.text(),
    rise_share: rows.double(), salt: rows.hex(), digest: rows.hex(), erased: rows.bool()!, kept_before: rows.text(), kept_after: rows.text(),
    kept: rows.bool() ?? false,
  } // prettier-ignore
}

/** Reads saves on one connection and their changes on another, and recomputes both. */
export async function readSlice(clients: readonly [Client, Client], from: bigint, to: bigint): Promise<Slice> {
  const saves = new BinaryRows(clients[0], `select ${saveColumns.join(', ')} from ledger.save where id >= ${from} and id < ${to} order by id`, saveColumns.length) // prettier-ignore
  const changes = new BinaryRows(clients[1], `select ${changeColumns.join(', ')} from ledger.change c where c.save_id >= ${from} and c.save_id < ${to} order by c.save_id`, changeColumns.length) // prettier-ignore
  const own = new ChangesBySave(changes)
  const made = new Blocks(from, to)
  for (;;) {
    if (!saves.next()) {
      if (saves.ended) break
      await saves.arrive()
      continue
    }
    const save = saveOf(saves)
    const id = Number(save.id)
    if (!own.gather(id)) await own.arrive(id)
    made.add(id, recomputed(save, own.of(save.captured_at)))
  }
  await own.arrive(Number.MAX_SAFE_INTEGER)
  return { blocks: made.blocks(), strays: own.strays }
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
    this.#own = []
    let last = -1
    let inOrder = true
    for (const { captured_at, field_id } of own) {
      if (captured_at !== capturedAt) return this.#parted(own, capturedAt)
      if (field_id < last) inOrder = false
      last = field_id
    }
    return inOrder ? own : own.sort((a, b) => a.field_id - b.field_id)
  }

  #parted(all: readonly ChangeInSlice[], capturedAt: string): ChangeInSlice[] {
    this.#own = all.filter((change) => change.captured_at !== capturedAt)
    return all.filter((change) => change.captured_at === capturedAt).sort((a, b) => a.field_id - b.field_id)
  }

  #stray(change: ChangeInSlice): void {
    if (this.strays.length < mostStrays) this.strays.push({ saveId: change.save_id, fieldId: change.field_id })
  }
}

/** What was recomputed of a slice, block by block. */
class Blocks {
  readonly #from: number
  readonly #size: number
  readonly #made: { leaves: Uint8Array; saves: Recomputed[]; asWritten: boolean; expected: number }[] = []

  constructor(from: bigint, to: bigint) {
    this.#from = Number(from)
    this.#size = Number(to - from)
    for (let begin = 0; begin < this.#size; begin += block) {
      const expected = Math.min(block, this.#size - begin)
      this.#made.push({ leaves: new Uint8Array(expected * leafBytes), saves: [], asWritten: true, expected })
    }
  }

  add(id: number, save: Recomputed): void {
    const at = id - this.#from
    const made = this.#made[Math.floor(at / block)]!
    const place = at % block
    // Saves arrive by number: one that is not the next is there twice, or another is missing.
    if (made.saves.length !== place || !isAsWritten(save)) made.asWritten = false
    made.leaves.set(Buffer.from(save.leaf, 'hex'), place * leafBytes)
    made.saves.push(save)
  }

  blocks(): Block[] {
    return this.#made.map(({ leaves, saves, asWritten, expected }) => {
      const whole = asWritten && saves.length === expected
      return { leaves, root: expected === block ? fold(leavesOf(leaves)) : null, saves: whole ? null : saves }
    })
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
