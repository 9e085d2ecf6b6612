import { EventEmitter } from 'node:events'
import type { Pulse } from '@spoor/contract'
import type { Logger } from 'pino'
import { countAlarms } from '../alarms/alarms.ts'
import type { Database } from '../database/knex.ts'

const lookEveryMs = 500
const repeatEveryMs = 5000

/** How the ledger stands, for whoever follows it. Looks only while somebody does; other servers' work shows too. */
export class PulseSource {
  readonly #db: Database
  readonly #log: Logger
  readonly #events = new EventEmitter().setMaxListeners(0)
  #timer: NodeJS.Timeout | undefined
  #latest = ''
  #sentAtMs = 0
  constructor(db: Database, log: Logger) {
    this.#db = db
    this.#log = log
  }

  /** @returns a function that ends the following. */
  follow(listener: (pulse: Pulse) => void): () => void {
    this.#events.on('pulse', listener)
    this.#timer ??= setInterval(() => void this.look(), lookEveryMs)
    this.#latest = ''
    void this.look()
    return () => {
      this.#events.off('pulse', listener)
      if (this.#events.listenerCount('pulse') === 0) this.close()
    }
  }

  close(): void {
    clearInterval(this.#timer)
    this.#timer = undefined
  }

  /** Looks now, e.g. because this server has just collected something. */
  async look(): Promise<void> {
    if (this.#events.listenerCount('pulse') === 0) return
    try {
      const pulse = await readPulse(this.#db)
      const text = JSON.stringify(pulse)
      if (text === this.#latest && Date.now() - this.#sentAtMs < repeatEveryMs) return
      this.#latest = text
      this.#sentAtMs = Date.now()
      this.#events.emit('pulse', pulse)
    } catch (error) {
      this.#log.warn({ err: error }, 'the pulse could not be read')
    }
  }
}

export async function readPulse(db: Database): Promise<Pulse> {
  const sources = await db('spoor.source as s')
    .join('ledger.collector_state as c', 'c.source_id', 's.id')
    .orderBy('s.id')
    .select<{ id: number; name: string; behind_ms: string; waiting: string; saves: string; trouble: string | null }[]>(
      's.id',
      's.name',
      'c.behind_ms',
      'c.waiting',
      'c.saves',
      db.raw(`nullif(concat_ws(' ', c.trouble, c.watch_words), '') as trouble`),
    )
  const head = await db('ledger.head').first<{ last_save_id: string }>('last_save_id')
  const seal = await db('ledger.seal').orderBy('number', 'desc').first<{ sealed_at: string } | undefined>('sealed_at')
  const alarms = await countAlarms(db)
  const [open] = await db('spoor.job').whereNull('ended_at').count<{ count: string }[]>('* as count')
  return {
    sources: sources.map((s) => ({
      id: s.id,
      name: s.name,
      behindMs: Number(s.behind_ms),
      waiting: Number(s.waiting),
      taken: Number(s.saves),
      trouble: s.trouble,
    })),
    latestSave: head.last_save_id === '0' ? null : head.last_save_id,
    sealedAt: seal?.sealed_at ?? null,
    alarms: [...alarms.values()].reduce((sum, count) => sum + count, 0),
    mismatches: alarms.get('ledger-altered') ?? 0,
    working: Number(open?.count ?? 0),
  }
}
