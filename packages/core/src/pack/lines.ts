import { joinBytes } from '../proof/bytes.ts'

/** A line of a file, or that it is longer than is read. */
export type PackLine = { number: number; bytes: Uint8Array } | { number: number; tooLong: true }

const feed = 10

/** Cuts a file into lines while it comes, in the memory of one line. */
export class LineCutter {
  readonly #longest: number
  #parts: Uint8Array[] = []
  #length = 0
  #number = 1

  /** @param longest bytes of the longest line that is kept */
  constructor(longest: number) {
    this.#longest = longest
  }

  /** The lines that ended. */
  *push(chunk: Uint8Array): Generator<PackLine> {
    for (let from = 0; ;) {
      const end = chunk.indexOf(feed, from)
      this.#keep(chunk.subarray(from, end < 0 ? chunk.length : end))
      if (end < 0) return
      yield this.#take()
      from = end + 1
    }
  }

  /** What follows the last line feed is a line that was cut off, if it is anything. */
  *rest(): Generator<PackLine> {
    if (this.#length > 0) yield this.#take()
  }

  #keep(part: Uint8Array): void {
    this.#length += part.length
    if (this.#length > this.#longest) this.#parts = []
    // What was pushed may be written over by whoever pushed it.
    else if (part.length > 0) this.#parts.push(part.slice())
  }

  #take(): PackLine {
    const number = this.#number++
    const line =
      this.#length > this.#longest ? ({ number, tooLong: true } as const) : { number, bytes: joinBytes(...this.#parts) }
    this.#parts = []
    this.#length = 0
    return line
  }
}
