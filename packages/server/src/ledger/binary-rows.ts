import type { Client } from 'pg'
import { to as copyTo } from 'pg-copy-streams'

/** Signature, flags and length of the extension, which is empty (PostgreSQL's manual, COPY, binary format). */
const headerBytes = 19
/** Milliseconds from 1970 to PostgreSQL's own beginning of time, 2000-01-01. */
const beginMs = Date.UTC(2000, 0, 1)
const perSecond = 1_000_000
/** Years of four digits. */
const firstMs = Date.UTC(1000, 0, 1)
const endMs = Date.UTC(10_000, 0, 1)

/**
 * Rows of a query as `COPY … (format binary)` brings them. A driver makes an object for each value of each row; here
 * values are read from the bytes that arrived, and only those that are asked for. Columns are named by their place.
 */
export class BinaryRows {
  readonly #chunks: AsyncIterator<Buffer>
  readonly #columns: number
  /** What arrived; of the row at hand, where each value begins and how long it is, -1 for NULL. */
  bytes: Buffer = Buffer.alloc(0)
  readonly starts: Int32Array
  readonly lengths: Int32Array
  /** Where the next row begins. */
  #at = 0
  /** Where the row ends whose values were found last. */
  #end = 0
  readonly #instants = new Instants()
  #begun = false
  #ended = false

  /** @param query with exactly so many columns; all of it is our own text */
  constructor(client: Client, query: string, columns: number) {
    this.#columns = columns
    this.starts = new Int32Array(columns)
    this.lengths = new Int32Array(columns)
    const stream = client.query(copyTo(`copy (${query}) to stdout (format binary)`, { highWaterMark: 1 << 20 }))
    // Whoever reads is told; a failure before anybody reads must not end the process.
    stream.on('error', () => undefined)
    this.#chunks = stream[Symbol.asyncIterator]()
  }

  /** Goes to the next row if all of it has arrived. @returns false when {@link arrive} has to be awaited, or at the end */
  next(): boolean {
    // The end counts as something that has arrived.
    if (this.#lacking() > 0 || this.#ended) return false
    this.#at = this.#end
    return true
  }

  get ended(): boolean {
    return this.#ended
  }

  /** Waits until the next row is here, or the end. The row at hand is gone then. */
  async arrive(): Promise<void> {
    for (let lacking = this.#lacking(); lacking > 0; lacking = this.#lacking()) {
      const parts = [this.bytes.subarray(this.#at)]
      // A value may be much longer than what arrives at once.
      for (let more = 0; more < lacking;) {
        const { value, done } = await this.#chunks.next()
        if (done) throw new Error('the database stopped in the middle of a row')
        parts.push(value)
        more += value.length
      }
      this.bytes = Buffer.concat(parts)
      this.#at = 0
    }
    if (this.#ended) while (!(await this.#chunks.next()).done);
  }

  /** All rows, each as what is made of it. */
  async all<T>(of: (row: this) => T): Promise<T[]> {
    const made: T[] = []
    while (!this.#ended) {
      if (this.next()) made.push(of(this))
      else await this.arrive()
    }
    return made
  }

  /** How many bytes are missing, at least, until the next row is whole; finds its values, or the end of all rows. */
  #lacking(): number {
    if (this.#ended) return 0
    const { bytes, starts, lengths } = this
    if (!this.#begun) {
      if (bytes.length < headerBytes) return headerBytes - bytes.length
      this.#begun = true
      this.#at = headerBytes
    }
    let at = this.#at + 2
    if (at > bytes.length) return at - bytes.length
    if (bytes[this.#at] === 255) {
      this.#ended = true
      return 0
    }
    for (let column = 0; column < this.#columns; column++) {
      if (at + 4 > bytes.length) return at + 4 - bytes.length
      const length = (bytes[at]! << 24) | (bytes[at + 1]! << 16) | (bytes[at + 2]! << 8) | bytes[at + 3]!
      starts[column] = at + 4
      lengths[column] = length
      at += length < 0 ? 4 : 4 + length
    }
    this.#end = at
    return Math.max(0, at - bytes.length)
  }

  isNull(column: number): boolean {
    return this.lengths[column]! < 0
  }

  int(column: number): number | null {
    return this.isNull(column) ? null : this.bytes.readInt32BE(this.starts[column]!)
  }

  /** A bigint, or the nearest number that there is. */
  number(column: number): number {
    const at = this.starts[column]!
    return this.bytes.readInt32BE(at) * 2 ** 32 + this.bytes.readUInt32BE(at + 4)
  }

  /** A bigint as its digits. */
  long(column: number): string | null {
    if (this.isNull(column)) return null
    const value = this.number(column)
    return Number.isSafeInteger(value) ? String(value) : this.bytes.readBigInt64BE(this.starts[column]!).toString()
  }

  double(column: number): number | null {
    return this.isNull(column) ? null : this.bytes.readDoubleBE(this.starts[column]!)
  }

  bool(column: number): boolean | null {
    return this.isNull(column) ? null : this.bytes[this.starts[column]!] === 1
  }

  text(column: number): string | null {
    const length = this.lengths[column]!
    const start = this.starts[column]!
    return length < 0 ? null : this.bytes.toString('utf8', start, start + length)
  }

  /** Bytes in hexadecimal digits. */
  hex(column: number): string | null {
    const length = this.lengths[column]!
    const start = this.starts[column]!
    return length < 0 ? null : this.bytes.toString('hex', start, start + length)
  }

  /** A timestamptz as `instantText` writes it. */
  instant(column: number): string | null {
    return this.isNull(column) ? null : this.#instants.text(this.number(column))
  }
}

/** How PostgreSQL writes both infinities: the ends of 64 bits. */
const infinite = 2 ** 63
const digitsOfFraction = 6

/** Microseconds since 2000 as `instantText` writes them, one after another of which many are of the same second. */
export class Instants {
  #second = NaN
  #text = ''

  /** What no clock says has a text of its own. */
  text(micros: number): string {
    const second = Math.floor(micros / perSecond)
    if (second !== this.#second) {
      const ms = beginMs + second * 1000
      if (Math.abs(micros) === infinite) return micros > 0 ? 'infinity' : '-infinity'
      if (!Number.isSafeInteger(micros) || ms < firstMs || ms >= endMs) return `${micros} µs`
      this.#second = second
      this.#text = new Date(ms).toISOString().slice(0, 19)
    }
    let fraction = micros - second * perSecond
    if (fraction === 0) return `${this.#text}Z`
    let digits = digitsOfFraction
    for (; fraction % 10 === 0; fraction /= 10) digits--
    return `${this.#text}.${String(fraction).padStart(digits, '0')}Z`
  }
}
