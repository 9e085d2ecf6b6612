import { appendFileSync, closeSync, fstatSync, fsyncSync, openSync, readFileSync, readSync } from 'node:fs'
import { join } from 'node:path'

export interface OutsideSeal {
  number: number
  size: number
  note: string
}

/** A seal is some hundred bytes; so many hold the last ones whatever was cut off. */
const endBytes = 64 * 1024

/** Seals kept also outside the database, so that a ledger that was cut off or put back older is found out. */
export class OutsideSeals {
  readonly #file: string
  constructor(dataDir: string) {
    this.#file = join(dataDir, 'seals.ndjson')
  }

  add(seal: OutsideSeal): void {
    const handle = openSync(this.#file, 'a', 0o644)
    try {
      appendFileSync(handle, `${JSON.stringify(seal)}\n`)
      fsyncSync(handle)
    } finally {
      closeSync(handle)
    }
  }

  /** Every seal that this server keeps, in the order in which they came. */
  all(): OutsideSeal[] {
    let text: string
    try {
      text = readFileSync(this.#file, 'utf8')
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return []
      throw error
    }
    return text.split('\n').flatMap((line) => {
      const seal = readLine(line)
      return seal ? [seal] : []
    })
  }

  /** The latest seal that this server knows of. A last line that was cut off by a stop is passed over. */
  latest(): OutsideSeal | null {
    for (const line of this.#end().trimEnd().split('\n').reverse()) {
      const seal = readLine(line)
      if (seal) return seal
    }
    return null
  }

  /** The last lines of the file, which may hold the seals of years; the first of them may be cut. */
  #end(): string {
    let handle: number
    try {
      handle = openSync(this.#file, 'r')
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return ''
      throw error
    }
    try {
      const { size } = fstatSync(handle)
      const bytes = Buffer.alloc(Math.min(size, endBytes))
      readSync(handle, bytes, 0, bytes.length, size - bytes.length)
      return bytes.toString('utf8')
    } finally {
      closeSync(handle)
    }
  }
}

/** Null of a line that was cut off by a stop. */
function readLine(line: string): OutsideSeal | null {
  try {
    return JSON.parse(line) as OutsideSeal
  } catch {
    return null
  }
}
