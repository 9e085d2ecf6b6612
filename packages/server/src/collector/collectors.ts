import type { Logger } from 'pino'
import type { Sources } from '../sources/registry.ts'

const lookEveryMs = 5000

/** What goes on for as long as there is a source. */
export interface Attendant {
  start(): void
  stop(): Promise<void>
}

/** Collects from each source and watches over it, sources included that this or another server adds while it runs. */
export class Collectors {
  readonly #sources: Sources
  readonly #make: (sourceId: number) => readonly Attendant[]
  readonly #log: Logger
  readonly #running = new Map<number, readonly Attendant[]>()
  #timer: NodeJS.Timeout | undefined
  constructor(sources: Sources, make: (sourceId: number) => readonly Attendant[], log: Logger) {
    this.#sources = sources
    this.#make = make
    this.#log = log
  }

  async start(): Promise<void> {
    await this.look()
    this.#timer = setInterval(
      () => void this.look().catch((error: unknown) => this.#log.warn({ err: error }, 'sources could not be listed')),
      lookEveryMs,
    )
  }

  /** Begins collecting from every source that is not collected from yet. */
  async look(): Promise<void> {
    for (const { id } of await this.#sources.list()) {
      if (this.#running.has(id)) continue
      const attendants = this.#make(id)
      this.#running.set(id, attendants)
      for (const one of attendants) one.start()
    }
  }

  async stop(): Promise<void> {
    clearInterval(this.#timer)
    await Promise.all([...this.#running.values()].flat().map((one) => one.stop()))
  }
}
