import { createHash, randomBytes } from 'node:crypto'
import { readTimeStamp, timeStampRequest } from '@spoor/verify/time-stamp'
import { Problem } from '../errors.ts'

const waitMs = 15_000
const largestAnswer = 200_000
const nonceBytes = 8

/** Whoever stamps packs and seals with the time (RFC 3161), reached over http. */
export class TimeAuthority {
  readonly #url: string
  constructor(url: string) {
    this.#url = url
  }

  /** What it is called where people read of it. */
  get name(): string {
    return new URL(this.#url).host
  }

  /**
   * Has some content stamped; the content itself does not leave. The answer is read before it is taken.
   * @throws Problem where there is none that holds
   */
  async stamp(content: Uint8Array): Promise<Uint8Array> {
    const digest = createHash('sha256').update(content).digest()
    try {
      const response = await fetch(this.#url, {
        method: 'POST',
        headers: { 'content-type': 'application/timestamp-query', accept: 'application/timestamp-reply' },
        body: Buffer.from(timeStampRequest(digest, randomBytes(nonceBytes))),
        signal: AbortSignal.timeout(waitMs),
        redirect: 'error',
      })
      if (!response.ok) throw new Error(`it answered ${response.status}`)
      if (Number(response.headers.get('content-length') ?? 0) > largestAnswer) throw new Error('its answer is too long')
      const answer = new Uint8Array(await response.arrayBuffer())
      if (answer.length > largestAnswer) throw new Error('its answer is too long')
      await readTimeStamp(answer, content)
      return answer
    } catch (error) {
      throw new Problem(
        'stamp-refused',
        `The authority at ${this.name} gave no time-stamp: ${(error as Error).message} A pack that asked for one was not made: try again, or have it made without.`,
      )
    }
  }
}
