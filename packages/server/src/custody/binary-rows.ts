import type { Client } from 'pg'
import { to as copyTo } from 'pg-copy-streams'

/** Signature, flags and length of the extension, which is empty (PostgreSQL's manual, COPY, binary format). */
const headerBytes = 19
/** Microseconds from 1970 to PostgreSQL's own beginning of time, 2000-01-01. */
const beginMs = Date.UTC(2000, 0, 1)
const perSecond = 1_000_000
/** Years of four digits. */
const firstMs = Date.UTC(1000, 0, 1)
const endMs = Date.UTC(10_000, 0, 1)

/**
 * Rows of a query as `COPY … (format binary)` brings them. A driver makes an object for each value of each row; here a
 * row is read value by value, in the order of its columns, out of what arrived.
 */
export class BinaryRows {
  readonly #chunks: AsyncIterator<Buffer>
  readonly #columns: number
  #bytes: Buffer = Buffer.alloc(0)
  #at = 0
  #begun = false
  #ended = false
  /** The second last told, of which there are many in a row. */
  #second = -1
  #secondText = ''

  /** @param query with exactly so many columns; all of it is our own text */
  constructor(client: Client, query: string, columns: number) {
    this.#columns = columns
    this.#chunks = client.query(copyTo(`copy (${query}) to stdout (format binary)`, { highWaterMark: 1 << 20 }))[Symbol.asyncIterator]() // prettier-ignore
  }

  /** Goes to the next row if all of it has arrived. @returns false when {@link arrive} has to be awaited, or at the end */
  next(): boolean {
    // The end counts as something that has arrived.
    if (this.#lacking() > 0 || this.#ended) return false
    this.#at += 2
    return true
  }

  get ended(): boolean {
    return this.#ended
  }

  /** Waits until the next row is here, or the end. */
  async arrive(): Promise<void> {
    for (let lacking = this.#lacking(); lacking > 0; lacking = this.#lacking()) {
      const parts = [this.#bytes.subarray(this.#at)]
      // A value may be much longer than what arrives at once.
      for (let more = 0; more < lacking;) {
        const { value, done } = await this.#chunks.next()
        if (done) throw new Error('the database stopped in the middle of a row')
        parts.push(value)
        more += value.length
      }
      this.#bytes = Buffer.concat(parts)
      this.#at = 0
    }
    if (this.#ended) while (!(await this.#chunks.next()).done);
  }

  /** How many bytes are missing, at least, until the next row is whole; finds its end, or that of all rows. */
  #lacking(): number {
    if (this.#ended) return 0
    const bytes = this.#bytes
    if (!this.#begun) {
      if (bytes.length < headerBytes) return headerBytes - bytes.length
      this.#begun = true
      this.#at = headerBytes
    }
    let at = this.#at + 2
    if (at > bytes.length) return at - bytes.length
    if (bytes.readInt16BE(this.#at) === -1) {
      this.#ended = true
      return 0
    }
    for (let column = 0; column < this.#columns; column++) {
      if (at + 4 > bytes.length) return at + 4 - bytes.length
      const length = bytes.readInt32BE(at)
      at += length < 0 ? 4 : 4 + length
    }
    return Math.max(0, at - bytes.length)
  }

  /** The length of the next value, which then begins at {@link BinaryRows.#at}; -1 for NULL. */
  #length(): number {
    const length = this.#bytes.readInt32BE(this.#at)
    this.#at += 4
    return length
  }

  #valueEnd(length: number): number {
    return (this.#at += length)
  }

  int(): number | null {
    if (this.#length() < 0) return null
    return this.#bytes.readInt32BE(this.#valueEnd(4) - 4)
  }

  /** A bigint as its digits. */
  long(): string | null {
    if (this.#length() < 0) return null
    const end = this.#valueEnd(8)
    const value = this.#bytes.readInt32BE(end - 8) * 2 ** 32 + this.#bytes.readUInt32BE(end - 4)
    return Number.isSafeInteger(value) ? String(value) : this.#bytes.readBigInt64BE(end - 8).toString()
  }

  double(): number | null {
    if (this.#length() < 0) return null
    return this.#bytes.readDoubleBE(this.#valueEnd(8) - 8)
  }

  bool(): boolean | null {
    if (this.#length() < 0) return null
    return this.#bytes[this.#valueEnd(1) - 1] === 1
  }

  text(): string | null {
    const length = this.#length()
    if (length < 0) return null
    const end = this.#valueEnd(length)
    return this.#bytes.toString('utf8', end - length, end)
  }

  /** Bytes in hexadecimal digits. */
  hex(): string | null {
    const length = this.#length()
    if (length < 0) return null
    const end = this.#valueEnd(length)
    return this.#bytes.toString('hex', end - length, end)
  }

  /** A timestamptz as `instantText` writes it. What no clock says has a text of its own. */
  instant(): string | null {
    if (this.#length() < 0) return null
    const end = this.#valueEnd(8)
    const micros = this.#bytes.readInt32BE(end - 8) * 2 ** 32 + this.#bytes.readUInt32BE(end - 4)
    const second = Math.floor(micros / perSecond)
    if (second !== this.#second) {
      const ms = beginMs + second * 1000
      if (!Number.isSafeInteger(micros) || ms < firstMs || ms >= endMs) return `${this.#bytes.readBigInt64BE(end - 8)} µs` // prettier-ignore
      this.#second = second
      this.#secondText = new Date(ms).toISOString().slice(0, 19)
    }
    const fraction = micros - second * perSecond
    if (fraction === 0) return `${this.#secondText}Z`
    return `${this.#secondText}.${String(fraction).padStart(6, '0').replace(/0+$/, '')}Z`
  }
}
