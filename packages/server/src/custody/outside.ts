import { appendFileSync, closeSync, fsyncSync, openSync, readFileSync } from 'node:fs'
import { join } from 'node:path'

export interface OutsideSeal {
  number: number
  size: number
  note: string
}

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

  /** The latest seal that this server knows of. A last line that was cut off by a stop is passed over. */
  latest(): OutsideSeal | null {
    let text: string
    try {
      text = readFileSync(this.#file, 'utf8')
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return null
      throw error
    }
    for (const line of text.trimEnd().split('\n').reverse()) {
      try {
        return JSON.parse(line) as OutsideSeal
      } catch {
        continue
      }
    }
    return null
  }
}
