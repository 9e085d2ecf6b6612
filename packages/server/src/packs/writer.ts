import { createHash, type Hash } from 'node:crypto'
import { once } from 'node:events'
import { createWriteStream, type WriteStream } from 'node:fs'
import { PassThrough } from 'node:stream'
import { finished } from 'node:stream/promises'
import { crc32, createDeflateRaw } from 'node:zlib'
import { archiveEnd, entryDescriptor, entryHead, isPacked, largestArchive, toHex, type PackEntry } from '@spoor/core'
import { Problem } from '../errors.ts'

export type Content = Iterable<string | Uint8Array> | AsyncIterable<string | Uint8Array>

/** Writes a pack's archive in its one form (docs/proof.md, rule 21), file by file. */
export class PackWriter {
  readonly #out: WriteStream
  readonly #folder: string
  readonly #whole: Hash = createHash('sha256')
  readonly #entries: PackEntry[] = []
  #at = 0
  /** SHA-256 of each file by its name in the folder, in hexadecimal digits. */
  readonly digests = new Map<string, string>()

  constructor(path: string, folder: string) {
    this.#out = createWriteStream(path, { mode: 0o600 })
    this.#folder = folder
  }

  async #write(bytes: Uint8Array): Promise<void> {
    this.#at += bytes.length
    if (this.#at > largestArchive)
      throw new Problem(
        'too-large',
        'The pack would be larger than 4 GB, more than its archive can be. Ask for less of it at once.',
      )
    this.#whole.update(bytes)
    if (!this.#out.write(bytes)) await once(this.#out, 'drain')
  }

  async add(name: string, content: Content): Promise<void> {
    const full = `${this.#folder}/${name}`
    const digest = createHash('sha256')
    const entry = { name: full, crc: 0, packed: 0, size: 0, offset: this.#at }
    await this.#write(entryHead(full))
    const deflate = isPacked(full) ? createDeflateRaw() : new PassThrough()
    const packing = (async () => {
      for await (const packed of deflate as AsyncIterable<Buffer>) {
        entry.packed += packed.length
        await this.#write(packed)
      }
    })()
    // Told by what writes to it; whoever waits for it below throws the same.
    packing.catch(() => undefined)
    try {
      for await (const part of content) {
        const bytes = typeof part === 'string' ? Buffer.from(part) : part
        entry.size += bytes.length
        entry.crc = crc32(bytes, entry.crc)
        digest.update(bytes)
        if (!deflate.write(bytes)) await Promise.race([once(deflate, 'drain'), packing])
      }
      deflate.end()
    } catch (error) {
      deflate.destroy()
      throw error
    }
    await packing
    await this.#write(entryDescriptor(entry))
    this.#entries.push(entry)
    this.digests.set(name, digest.digest('hex'))
  }

  /** What was written so far, to be signed. */
  soFar(): { bytes: number; archive: Uint8Array } {
    return { bytes: this.#at, archive: new Uint8Array(this.#whole.copy().digest()) }
  }

  /** @returns bytes of the file, and their SHA-256 in hexadecimal digits */
  async end(): Promise<{ size: number; digest: string }> {
    await this.#write(archiveEnd(this.#entries, this.#at))
    this.#out.end()
    await finished(this.#out)
    return { size: this.#at, digest: toHex(new Uint8Array(this.#whole.digest())) }
  }

  /** Gives the file up. */
  async abandon(): Promise<void> {
    this.#out.destroy()
    await finished(this.#out).catch(() => undefined)
  }
}
