import { createHash } from 'node:crypto'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { errorCode, Problem } from '../errors.ts'
import { awaitJob, isAsked } from './awaiting.ts'
import type { JobWish } from './jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from './work.ts'

/** How long something may go on, for whoever works on it. */
export interface Pace {
  /** What this transaction asks of the database ends when it is not to go on. */
  hold(trx: Knex.Transaction): Promise<void>
  /** To be called now and then. @throws when it is not to go on */
  goOn(done?: number): Promise<void>
}

/** A question that may take long, and how it is answered. Question and answer are JSON. */
export interface Answerer<Q, A> {
  name: string
  /** What is done meanwhile, as a sentence begins. */
  words: string
  answer(db: Database, question: Q, pace: Pace): Promise<A>
}

/** So long somebody waits before a job goes on with it. */
const briefMs = 8000
/** So long an answer is there for whoever asked. It is of the ledger as that was when it was made. */
const keptSeconds = 120
const lookEveryMs = 400
/** What the database says of a statement that was ended. */
const cancelled = '57014'

class TookLong extends Error {}

/** A pace for somebody who waits. @throws TookLong out of what is done in it */
class Brief implements Pace {
  readonly #untilMs: number

  constructor(ms: number) {
    this.#untilMs = performance.now() + ms
  }

  async hold(trx: Knex.Transaction): Promise<void> {
    const left = Math.max(1, Math.round(this.#untilMs - performance.now()))
    await trx.raw(`set local statement_timeout = ${left}`)
  }

  goOn(): Promise<void> {
    return performance.now() > this.#untilMs ? Promise.reject(new TookLong()) : Promise.resolve()
  }
}

/** A pace for a job: until somebody stops it. */
class ForJob implements Pace {
  readonly #db: Database
  readonly #job: JobAtWork
  readonly #look: NodeJS.Timeout
  readonly #held = new Set<{ pid: number; since: string }>()
  #end: unknown
  #looking = false

  constructor(db: Database, job: JobAtWork) {
    this.#db = db
    this.#job = job
    this.#look = setInterval(() => void this.#lookOnce(), lookEveryMs)
  }

  async #lookOnce(): Promise<void> {
    if (this.#looking) return
    this.#looking = true
    try {
      await this.#job.progress({ doing: 'working it out' })
    } catch (error) {
      this.#end ??= error
      for (const { pid, since } of this.#held) await this.#cancel(pid, since)
    } finally {
      this.#looking = false
    }
  }

  /** The connection may serve somebody else by now: only what it did in that transaction is ended. */
  async #cancel(pid: number, since: string): Promise<void> {
    const its = 'select pg_cancel_backend(pid) from pg_stat_activity where pid = ? and xact_start::text = ?'
    await this.#db.raw(its, [pid, since]).catch(() => undefined)
  }

  async hold(trx: Knex.Transaction): Promise<void> {
    type Own = { pid: number; since: string }
    const { rows } = await trx.raw<{ rows: [Own] }>('select pg_backend_pid() as pid, now()::text as since')
    const [own] = rows
    this.#held.add(own)
    const letGo = () => this.#held.delete(own)
    trx.executionPromise.then(letGo, letGo)
  }

  async goOn(done?: number): Promise<void> {
    if (this.#end !== undefined) throw this.#end as Error
    if (done !== undefined) await this.#job.progress({ done, doing: 'looking through saves' })
  }

  /** @returns why it was not to go on; undefined where it was */
  close(): unknown {
    clearInterval(this.#look)
    return this.#end
  }
}

/**
 * The same question by the same name, until something is erased or another plan is in force: what may not be seen any more stands
 * in no answer that is given later.
 */
async function subjectOf<Q>(db: Database, { name }: Answerer<Q, unknown>, question: Q): Promise<string> {
  const digest = createHash('sha256').update(JSON.stringify(question)).digest('hex')
  return `${name} ${await shownAs(db)} ${digest}`
}

/** Another text as soon as less may be shown. */
async function shownAs(db: Database): Promise<string> {
  const { rows } = await db.raw<{ rows: { mark: string }[] }>(
    `select (select count(*) from spoor.erasure where state = 'erased') || '.'
         || (select count(*) from spoor.plan_version where state in ('in force', 'superseded')) as mark`,
  )
  return rows[0]!.mark
}

/**
 * The answer to a question: at once where that is short, else as a job.
 * @param question says all that the answer depends on, the reach of whoever asks included
 * @throws Problem `being-read` while that goes on; whoever asks again goes on waiting
 */
export async function answerSoon<Q, A>(
  db: Database,
  answerer: Answerer<Q, A>,
  question: Q,
  personId: number,
  within = briefMs,
): Promise<A> {
  const subject = await subjectOf(db, answerer, question)
  const kept = await keptAnswer<A>(db, subject)
  if (kept) return kept.answer
  const { name, words } = answerer
  const wish: JobWish = { kind: 'answering', subject, words, input: { name, question } }
  if (!(await isAsked(db, wish)))
    try {
      return await answerer.answer(db, question, new Brief(within))
    } catch (error) {
      if (!(error instanceof TookLong) && errorCode(error) !== cancelled) throw error
    }
  await awaitJob(db, wish, { personId, told: words, named: true })
  const made = await keptAnswer<A>(db, subject)
  // Something was erased while it was made, or it is too old by now.
  if (!made) throw new Problem('busy', `${words} was done, but what it told does not hold any more. Ask again.`)
  return made.answer
}

async function keptAnswer<A>(db: Database, subject: string): Promise<{ answer: A } | undefined> {
  return await db('spoor.answer')
    .where({ subject })
    .whereRaw('made_at > clock_timestamp() - make_interval(secs => ?)', [keptSeconds])
    .first<{ answer: A } | undefined>('answer')
}

/** Answers, as a job, what takes longer than anybody waits. */
export class Answering implements JobHandler {
  readonly kind = 'answering'
  readonly #db: Database
  readonly #answerers: ReadonlyMap<string, Answerer<unknown, unknown>>

  constructor(db: Database, answerers: readonly Answerer<never, unknown>[]) {
    this.#db = db
    this.#answerers = new Map(answerers.map((one) => [one.name, one as Answerer<unknown, unknown>]))
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const { name, question } = job.input as { name: string; question: unknown }
    const answerer = this.#answerers.get(name)
    if (!answerer) return { words: 'Nobody asks that any more.' }
    const subject = await subjectOf(this.#db, answerer, question)
    const pace = new ForJob(this.#db, job)
    try {
      const answer = await answerer.answer(this.#db, question, pace)
      await pace.goOn()
      await this.#keep(subject, answerer, question, answer)
    } catch (error) {
      const end = pace.close()
      throw end ?? error
    } finally {
      pace.close()
    }
    return { words: 'It is answered.' }
  }

  /** Unless something was erased meanwhile, which waits for this or is waited for. */
  async #keep(subject: string, answerer: Answerer<unknown, unknown>, question: unknown, answer: unknown) {
    await this.#db.transaction(async (trx) => {
      await trx.raw('lock table spoor.answer in row exclusive mode')
      if ((await subjectOf(trx, answerer, question)) !== subject) return
      await trx('spoor.answer')
        .insert({ subject, answer: JSON.stringify(answer) })
        .onConflict('subject')
        .merge({ answer: JSON.stringify(answer), made_at: trx.fn.now() })
    })
  }

  async due(db: Database): Promise<void> {
    await db('spoor.answer').whereRaw('made_at < clock_timestamp() - make_interval(secs => ?)', [keptSeconds]).delete()
  }
}

/** No answer is kept until the transaction ends, and none of before. Works as the role that erases. */
export async function forgetAnswers(trx: Knex.Transaction): Promise<void> {
  await trx.raw('lock table spoor.answer in share row exclusive mode')
  await trx('spoor.answer').delete()
}
