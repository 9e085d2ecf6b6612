import type { Logger } from 'pino'
import type { Sources } from '../sources/registry.ts'
import type { Collector } from './collector.ts'

const lookEveryMs = 5000

/** One collector for each source, sources included that this or another server adds while it runs. */
export class Collectors {
  readonly #sources: Sources
  readonly #make: (sourceId: number) => Collector
  readonly #log: Logger
  readonly #running = new Map<number, Collector>()
  #timer: NodeJS.Timeout | undefined
  constructor(sources: Sources, make: (sourceId: number) => Collector, log: Logger) {
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
      const collector = this.#make(id)
      this.#running.set(id, collector)
      collector.start()
    }
  }

  async stop(): Promise<void> {
    clearInterval(this.#timer)
    await Promise.all([...this.#running.values()].map((collector) => collector.stop()))
  }
}
