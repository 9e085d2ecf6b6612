import { createHash } from 'node:crypto'
import { counted } from '@spoor/core'
import type { StandingPage } from '@spoor/contract'
import { boundArray, type Database } from '../database/knex.ts'
import { recordEvent } from '../ledger/events.ts'
import { sha256Hex } from '../ledger/sha256.ts'
import { coverageOf } from '../ledger/coverage.ts'
import { beginning, standingAt } from '../standing/kept.ts'
import { KeyLists, savesMet, standingPage } from '../standing/list.ts'
import { recordsAt } from '../standing/moment.ts'
import type { JobRow } from '../work/jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import { baselineRow, type BaselineJob, type BaselineRow } from './baselines.ts'

const atOnce = 500

type Cell = StandingPage['records'][number]['values'][number]

/** What a record held, as one line: its key, then each value, or why it is not known. */
const lineOf = (key: string, cells: readonly Pick<Cell, 'value' | 'unknown'>[]) =>
  JSON.stringify([key, ...cells.map(({ value, unknown }) => (unknown === null ? value : { unknown }))])

/** Puts down which records a baseline means and a digest of what each held, or reckons them anew. */
export class KeepingBaselines implements JobHandler {
  readonly kind = 'baseline'
  readonly #db: Database

  constructor(db: Database) {
    this.#db = db
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const input = job.input as BaselineJob
    const baseline = await baselineRow(this.#db, input.baselineId)
    if (input.check) return await this.#check(job, baseline)
    if (baseline.state === 'kept') return { words: 'It had been put down before the server stopped.' }
    await this.#db('spoor.baseline_record').where({ baseline_id: baseline.id }).delete()
    const lists = new KeyLists()
    let records = 0
    for (let after: string | undefined; ;) {
      await job.progress({ done: records, doing: 'reckoning what records held' })
      const page = await standingPage(this.#db, lists, {
        typeId: baseline.type_id,
        fieldIds: baseline.field_ids,
        words: input.words ?? undefined,
        where: input.where,
        order: null,
        at: baseline.at,
        marks: undefined,
        after,
        limit: atOnce,
      })
      const here = page.records.filter((row) => row.deletedAt === null)
      await this.#db.raw(
        `insert into spoor.baseline_record (baseline_id, record_key, label, digest)
         select ?, * from unnest(?::text[], ?::text[], ?::text[]) on conflict do nothing`,
        [
          baseline.id,
          boundArray(here.map((row) => row.key)),
          boundArray(here.map((row) => row.label)),
          boundArray(here.map((row) => sha256Hex(lineOf(row.key, row.values)))),
        ],
      )
      records += here.length
      if (page.next === null) break
      after = page.next
    }
    const digest = await this.#digest(baseline.id)
    await this.#db.transaction(async (trx) => {
      await trx('spoor.baseline').where({ id: baseline.id }).update({ state: 'kept', records, digest })
      await recordEvent(trx, {
        kind: 'custody',
        personId: job.askedBy,
        words: `put baseline ${baseline.id} down: ${counted(records, 'record')} as they stood ${baseline.at}, digest ${digest}`,
      })
    })
    return { words: `“${baseline.name}” names ${counted(records, 'record')} as they stood then.` }
  }

  /** One that was not put down is none. */
  async afterwards(db: Database, job: JobRow): Promise<void> {
    const { baselineId, check } = job.input as BaselineJob
    if (!check) await db('spoor.baseline').where({ id: baselineId, state: 'going' }).delete()
  }

  /** Over what each record held, in the order of their keys. */
  async #digest(baselineId: number): Promise<string> {
    const whole = createHash('sha256')
    for (let after = ''; ;) {
      const rows = await this.#rows(baselineId, after)
      if (rows.length === 0) return whole.digest('hex')
      for (const { digest } of rows) whole.update(`${digest}\n`)
      after = rows.at(-1)!.record_key
    }
  }

  async #rows(baselineId: number, after: string): Promise<{ record_key: string; digest: string }[]> {
    return await this.#db('spoor.baseline_record')
      .where({ baseline_id: baselineId })
      .whereRaw('record_key collate "C" > ?', [after])
      .orderByRaw('record_key collate "C"')
      .limit(atOnce)
      .select<{ record_key: string; digest: string }[]>('record_key', 'digest')
  }

  async #check(
    job: JobAtWork,
    { id, type_id: typeId, field_ids: fieldIds, at, records, digest }: BaselineRow,
  ): Promise<JobEnd> {
    const whole = createHash('sha256')
    let [looked, other] = [0, 0]
    for (let after = ''; ;) {
      await job.progress({ done: looked, total: Number(records), doing: 'reckoning anew what records held' })
      const rows = await this.#rows(id, after)
      if (rows.length === 0) break
      after = rows.at(-1)!.record_key
      const keys = rows.map((row) => row.record_key)
      // Saves bear out since when fields were tracked, as when the list was made.
      const standings = [...(await standingAt(this.#db, typeId, keys)).values()].map((standing) => ({ standing }))
      const coverage = await coverageOf(this.#db, typeId, savesMet(standings))
      const then = await recordsAt(this.#db, typeId, keys, { fieldIds, at, coverage, masked: new Set() })
      for (const { record_key: key, digest: kept } of rows) {
        whole.update(`${kept}\n`)
        const cells = fieldIds.map((fieldId) => {
          const { holding } = then.get(key)!.fields.get(fieldId)!
          return holding.state === 'value'
            ? { ...beginning(holding.value), unknown: null }
            : { value: null, unknown: holding.state === 'unknown' ? holding.why : null }
        })
        if (sha256Hex(lineOf(key, cells)) !== kept) other++
      }
      looked += rows.length
    }
    const list = whole.digest('hex') === digest && looked === Number(records)
    return {
      words: list
        ? other === 0
          ? `All ${counted(looked, 'record')} held what was put down.`
          : `${counted(other, 'record')} of ${looked} cannot be reckoned as they were put down: values were erased since, saves of that time came later, or their keys went to others.`
        : 'Its list of records is not the one that was sealed: something was altered by other hands.',
      output: { looked, other, list },
    }
  }
}
