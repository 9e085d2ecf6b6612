import { allows } from '@spoor/contract'
import { clockWords } from '@spoor/core'
import type { Logger } from 'pino'
import { Duty } from '../database/duty.ts'
import type { Database } from '../database/knex.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { scopeWords } from '../ledger/scope-words.ts'
import type { Mailer } from '../mail/mailer.ts'
import { afterwards, isRefused } from '../mail/trying.ts'
import { People } from '../people/people.ts'
import { endLink, makeLink } from './links.ts'
import { askForRegular } from './regular.ts'
import type { PackRow } from './store.ts'

const restMs = 3000
const retryMs = 15_000
const day = 86_400_000

export interface PackPostDeps {
  db: Database
  log: Logger
  mailer: Mailer | null
  /** Where people reach Spoor, for links in mails. */
  address: string
  now?(): number
}

interface MailRow {
  id: string
  pack_id: number
  address: string
  asked_by: number
  asked_at: string
  days: number
  most: number
  tries: number
  identity: string
}

/** Asks for regular packs when their turn comes, and sends packs by mail once they are made, on one server among all. */
export class PackPost {
  readonly #deps: PackPostDeps
  readonly #duty: Duty

  constructor(deps: PackPostDeps) {
    this.#deps = deps
    this.#duty = new Duty(deps.db, 'pack post', {
      round: async () => {
        await this.look()
        return restMs
      },
      failed: (error) => deps.log.error({ err: error }, 'regular packs could not be looked after and are tried again'),
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  stop(): Promise<void> {
    return this.#duty.stop()
  }

  async look(): Promise<void> {
    const { db } = this.#deps
    const nowMs = this.#deps.now?.() ?? Date.now()
    await askForRegular(this.#deps, nowMs)
    // A pack that will not be there is not waited for.
    await db('spoor.pack_mail')
      .where({ state: 'waiting' })
      .whereIn('pack_id', db('spoor.pack').whereIn('state', ['failed', 'withdrawn']).select('id'))
      .update({ state: 'given up', trouble: 'There is no such pack to be sent: it was not made, or was withdrawn.' })
    const due = await db('spoor.pack_mail')
      .where({ state: 'waiting' })
      .where('due_at', '<=', new Date(nowMs).toISOString())
      .whereIn('pack_id', db('spoor.pack').where({ state: 'kept' }).select('id'))
      .orderBy('id')
      .select<MailRow[]>('*')
    for (const mail of due) await this.#send(mail, nowMs)
  }

  /** Each try has a link of its own, which is known to nobody else; one that was not taken leads nowhere. */
  async #send(mail: MailRow, nowMs: number): Promise<void> {
    const { db, mailer } = this.#deps
    const sender = await new People(db).find(mail.asked_by)
    if (!sender || !allows(sender.role, 'packs.hand'))
      return await this.#keep(mail, { state: 'given up', trouble: 'Whoever sends it may hand no packs over any more.' })
    if (!mailer) return await this.#keep(mail, { state: 'given up', trouble: 'SPOOR_MAIL_URL is not set.' })
    const link = await makeLink(db, mail.pack_id, { forWhom: mail.address, days: mail.days, most: mail.most }, sender)
    try {
      await mailer.send({ to: mail.address, ...(await this.#letter(mail, sender, link.token)) })
    } catch (error) {
      await endLink(db, mail.pack_id, link.linkId, sender)
      const tried = { tries: mail.tries + 1, sinceMs: Date.parse(mail.asked_at), nowMs, forGood: isRefused(error) }
      return await this.#keep(mail, { trouble: (error as Error).message, ...afterwards(tried) })
    }
    await this.#keep(mail, { state: 'sent', sent_at: new Date(nowMs).toISOString(), trouble: null })
    await recordEvent(db, {
      kind: 'export',
      personId: sender.id,
      words: `pack ${mail.pack_id} was sent to ${mail.address}, by link ${link.linkId}`,
    })
  }

  async #keep({ id, tries }: MailRow, what: object): Promise<void> {
    await this.#deps
      .db('spoor.pack_mail')
      .where({ id, state: 'waiting' })
      .update({ ...what, tries: tries + 1 })
  }

  /** What is written: which pack, where it is taken and how it is checked; no value of any record. */
  async #letter({ pack_id, days, most, identity }: MailRow, sender: SignedIn, token: string) {
    const { db, address } = this.#deps
    const pack = (await db('spoor.pack').where({ id: pack_id }).first<PackRow>('*'))!
    const until = clockWords(new Date(Date.now() + days * day).toISOString(), pack.zone)
    const lines = [
      `${sender.name} sends you evidence pack ${pack_id}: ${pack.title}`,
      `Why it was made: ${pack.why}`,
      await scopeWords(db, pack.scope),
      `Take it here, until ${until} and at most ${most} times:\n${address}/handed/${token}`,
      `The SHA-256 of the file: ${pack.digest}`,
      `Whoever has it can check it, without Spoor and with nothing sent anywhere: ${address}/check`,
    ]
    return {
      subject: `Spoor: evidence pack ${pack_id}, ${pack.title}`.slice(0, 200),
      text: `${lines.join('\n\n')}\n`,
      messageId: `<${identity}@spoor>`,
      headers: { 'Auto-Submitted': 'auto-generated' },
    }
  }
}
