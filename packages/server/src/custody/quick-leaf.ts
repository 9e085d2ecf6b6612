import { hash } from 'node:crypto'
import { changeDigest, rise } from '@spoor/core'
import { Instants, type BinaryRows } from '../ledger/binary-rows.ts'
import { changeAt, saveAt } from '../ledger/row-columns.ts'

const quote = 0x22
const backslash = 0x5c
const hexDigits = Buffer.from('0123456789abcdef')
const sideBytes = 16
const commitmentDigits = 64

/** Text that grows, as its bytes. */
class ByteText {
  bytes = Buffer.alloc(1 << 14)
  length = 0

  room(more: number): void {
    if (this.length + more <= this.bytes.length) return
    const grown = Buffer.alloc((this.length + more) * 2)
    this.bytes.copy(grown, 0, 0, this.length)
    this.bytes = grown
  }

  /** Letters of ASCII only. */
  ascii(text: string): void {
    this.room(text.length)
    const { bytes } = this
    let at = this.length
    for (let n = 0; n < text.length; n++) bytes[at++] = text.charCodeAt(n)
    this.length = at
  }

  copy(from: Buffer, start: number, end: number): void {
    this.room(end - start)
    if (end - start > 64) from.copy(this.bytes, this.length, start, end)
    else for (let at = start, to = this.length; at < end; at++) this.bytes[to++] = from[at]!
    this.length += end - start
  }

  hex(from: Buffer, start: number, end: number): void {
    this.room(2 * (end - start))
    const { bytes } = this
    let to = this.length
    for (let at = start; at < end; at++) {
      const byte = from[at]!
      bytes[to++] = hexDigits[byte >> 4]!
      bytes[to++] = hexDigits[byte & 15]!
    }
    this.length = to
  }

  /** As JSON writes a text of which this is the UTF-8. */
  quoted(from: Buffer, start: number, end: number): void {
    this.room(2 * (end - start) + 2)
    const { bytes } = this
    let to = this.length
    bytes[to++] = quote
    for (let at = start; at < end; at++) {
      const byte = from[at]!
      if (byte < 32) {
        this.#escaped(from.toString('utf8', start, end))
        return
      }
      if (byte === quote || byte === backslash) bytes[to++] = backslash
      bytes[to++] = byte
    }
    bytes[to++] = quote
    this.length = to
  }

  #escaped(text: string): void {
    const json = JSON.stringify(text)
    this.room(3 * json.length)
    this.length += this.bytes.write(json, this.length)
  }
}

/**
 * Makes a save's leaf (docs/proof.md, rules 3 to 7) from the bytes of its row and of those of its changes, without an
 * object for any of them, and holds it against what is stored. It may say no where something is only unusual: then
 * `recomputed` says what there is to say. It cannot say yes wrongly, since what it hashes has the stored leaf only if it
 * is the save's canonical form.
 */
export class QuickLeaf {
  readonly #text = new ByteText()
  readonly #changes = new ByteText()
  readonly #committed = new ByteText()
  readonly #captured = new Instants()
  readonly #collected = new Instants()
  #regular = true
  #lastField = -1

  /** Takes a change of the save at hand, in the order of fields. */
  change(save: BinaryRows, change: BinaryRows): void {
    const field = change.int(changeAt.field_id)!
    if (field <= this.#lastField || !agree(save, change)) this.#regular = false
    if (!this.#regular) return
    this.#lastField = field
    const erased = change.bool(changeAt.erased)
    const [before, after] = erased
      ? this.#kept(change)
      : [this.#commitment(change, changeAt.before, 0), this.#commitment(change, changeAt.after, sideBytes)]
    if (change.hex(changeAt.digest) !== changeDigest({ before, after })) this.#regular = false
    const text = this.#changes
    text.ascii(text.length === 0 ? '{"after":"' : ',{"after":"')
    text.ascii(after)
    text.ascii('","before":"')
    text.ascii(before)
    text.ascii('","fieldId":')
    text.ascii(String(field))
    text.ascii('}')
  }

  /** What was kept of an erased change; nothing else may be there. */
  #kept(change: BinaryRows): [string, string] {
    const [before, after] = [change.text(changeAt.kept_before), change.text(changeAt.kept_after)]
    const empty =
      change.isNull(changeAt.before) &&
      change.isNull(changeAt.after) &&
      change.isNull(changeAt.salt) &&
      change.isNull(changeAt.rise) &&
      change.isNull(changeAt.rise_share)
    if (!empty || before?.length !== commitmentDigits || after?.length !== commitmentDigits) this.#regular = false
    return [before ?? '', after ?? '']
  }

  #commitment(change: BinaryRows, column: number, saltFrom: number): string {
    const salt = change.starts[changeAt.salt]! + saltFrom
    if (change.lengths[changeAt.salt] !== 2 * sideBytes) this.#regular = false
    const text = this.#committed
    text.length = 0
    text.ascii('\u0002')
    text.hex(change.bytes, salt, salt + sideBytes)
    if (change.isNull(column)) text.ascii('n')
    else {
      const start = change.starts[column]!
      text.ascii('t')
      text.copy(change.bytes, start, start + change.lengths[column]!)
    }
    return hash('sha256', text.bytes.subarray(0, text.length), 'hex')
  }

  /** The leaf of a save whose changes were all taken, if all of it is as it was written. */
  leaf(save: BinaryRows): string | null {
    const regular = this.#regular
    const changes = this.#changes
    this.#regular = true
    this.#lastField = -1
    const leaf = regular ? hash('sha256', this.#canonical(save, changes), 'hex') : null
    changes.length = 0
    return leaf !== null && leaf === save.hex(saveAt.leaf) ? leaf : null
  }

  #canonical(save: BinaryRows, changes: ByteText): Buffer {
    const out = this.#text
    out.length = 0
    const text = (name: string, column: number, absent = 'null') => {
      out.ascii(name)
      const start = save.starts[column]!
      if (save.isNull(column)) out.ascii(absent)
      else out.quoted(save.bytes, start, start + save.lengths[column]!)
    }
    const int = (name: string, column: number) => {
      out.ascii(name)
      out.ascii(String(save.int(column)))
    }
    const digits = (name: string, column: number) => {
      out.ascii(name)
      const value = save.long(column)
      out.ascii(value === null ? 'null' : `"${value}"`)
    }
    const instant = (name: string, column: number, instants: Instants) => {
      out.ascii(name)
      out.ascii(instants.text(save.number(column)))
      out.ascii('"')
    }
    text('\u0000{"action":', saveAt.action)
    int(',"actorId":', saveAt.actor_id)
    text(',"actorKind":', saveAt.actor_kind)
    text(',"actorName":', saveAt.actor_name, '""')
    text(',"address":', saveAt.client_address)
    text(',"application":', saveAt.application_name)
    instant(',"at":"', saveAt.captured_at, this.#captured)
    out.ascii(',"changes":[')
    out.copy(changes.bytes, 0, changes.length)
    text('],"channel":', saveAt.channel)
    out.ascii(save.bool(saveAt.claimed) ? ',"claimed":true' : ',"claimed":false')
    instant(',"collectedAt":"', saveAt.collected_at, this.#collected)
    int(',"correctionId":', saveAt.correction_id)
    digits(',"id":', saveAt.id)
    text(',"key":', saveAt.record_key)
    text(',"keyBefore":', saveAt.key_before)
    text(',"label":', saveAt.label)
    text(',"login":', saveAt.db_login)
    text(',"onBehalfOf":', saveAt.on_behalf_of)
    text(',"parentKey":', saveAt.parent_key)
    int(',"parentTypeId":', saveAt.parent_type_id)
    int(',"planVersion":', saveAt.plan_version)
    text(',"reason":', saveAt.reason)
    text(',"run":', saveAt.run)
    digits(',"runId":', saveAt.run_id)
    digits(',"seq":', saveAt.outbox_seq)
    int(',"sourceId":', saveAt.source_id)
    text(',"transaction":', saveAt.transaction_id)
    int(',"typeId":', saveAt.type_id)
    out.ascii('}')
    return out.bytes.subarray(0, out.length)
  }
}

/** Whether what a change repeats of its save is the save's, and its rise is that of its values. */
function agree(save: BinaryRows, change: BinaryRows): boolean {
  if (
    !same(save, saveAt.type_id, change, changeAt.type_id) ||
    !same(save, saveAt.record_key, change, changeAt.record_key) ||
    !same(save, saveAt.actor_id, change, changeAt.actor_id) ||
    !same(save, saveAt.actor_kind, change, changeAt.actor_kind) ||
    !same(save, saveAt.parent_type_id, change, changeAt.parent_type_id) ||
    !same(save, saveAt.parent_key, change, changeAt.parent_key)
  )
    return false
  if (change.isNull(changeAt.rise)) return change.isNull(changeAt.rise_share)
  const moved = rise(change.text(changeAt.before), change.text(changeAt.after))
  return change.text(changeAt.rise) === moved?.by && change.double(changeAt.rise_share) === moved.share
}

function same(a: BinaryRows, column: number, b: BinaryRows, other: number): boolean {
  const length = a.lengths[column]!
  if (length !== b.lengths[other]) return false
  const [from, to] = [a.starts[column]!, b.starts[other]!]
  for (let n = 0; n < length; n++) if (a.bytes[from + n] !== b.bytes[to + n]) return false
  return true
}
