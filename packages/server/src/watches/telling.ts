import {
  clockWords,
  counted,
  dateText,
  groupBy,
  pairOf,
  parseScope,
  scopeEntries,
  spanAround,
  watchedWords,
  withPair,
} from '@spoor/core'
import type { Knex } from 'knex'
import type { Logger } from 'pino'
import type { Database } from '../database/knex.ts'
import { Duty } from '../database/duty.ts'
import { scopeWords } from '../ledger/scope-words.ts'
import type { Mailer } from '../mail/mailer.ts'
import { afterwards, isRefused } from '../mail/trying.ts'
import type { Vault } from '../secret.ts'
import { post } from './post.ts'
import { openReceiver, signatures } from './receivers.ts'
import type { FiringRow, MessageRow, WatchRow } from './store.ts'
import { digestMark, firingWords, trialMark } from './words.ts'

const restMs = 1000
const retryMs = 5000
const mostInOne = 200
const mostPosts = 100

export interface TellingDeps {
  db: Database
  log: Logger
  mailer: Mailer | null
  vault: Vault
  /** Where people reach Spoor, for links in messages. */
  address: string
  now?(): number
}

/** Sends what watches have to tell, on one server among all; what is not taken is tried again with growing waits for three days. */
export class Telling {
  readonly #deps: TellingDeps
  readonly #duty: Duty

  constructor(deps: TellingDeps) {
    this.#deps = deps
    this.#duty = new Duty(deps.db, 'telling', {
      round: async () => {
        await this.tell()
        return restMs
      },
      failed: (error) => deps.log.error({ err: error }, 'messages of watches could not be sent and are tried again'),
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  stop(): Promise<void> {
    return this.#duty.stop()
  }

  #now(): number {
    return this.#deps.now?.() ?? Date.now()
  }

  /** Sends what is due: in Spoor at once, by mail one message for all that one watch has for one address. */
  async tell(): Promise<void> {
    const { db } = this.#deps
    const now = new Date(this.#now()).toISOString()
    const due = () => db('spoor.watch_message').where({ state: 'waiting' }).where('due_at', '<=', now)
    await due().where({ way: 'spoor' }).update({ state: 'sent', sent_at: now })
    await this.#putIntoLetters(due)
    const letters = await due().where({ way: 'mail' }).whereNotNull('letter').orderBy('id').select<MessageRow[]>('*')
    for (const messages of groupBy(letters, (one) => one.letter).values()) await this.#mail(messages)
    const posts = await due().where({ way: 'receiver' }).orderBy('id').limit(mostPosts).select<MessageRow[]>('*')
    // One receiver is told in order; one that hangs keeps none of the others waiting.
    await Promise.all(
      [...groupBy(posts, (one) => one.receiver_id!).values()].map(async (own) => {
        for (const one of own)
          if (!(await this.#post(one))) {
            await this.#postpone(one)
            return
          }
      }),
    )
  }

  /**
   * What one watch has for one address goes in one letter. That is kept before it is tried: of a letter that was taken without an
   * answer nothing comes again under another identity.
   */
  async #putIntoLetters(due: () => Knex.QueryBuilder): Promise<void> {
    const fresh = due()
      .where({ way: 'mail', letter: null })
      .select(
        'id',
        'identity',
        'watch_id',
        'address',
        this.#deps.db.raw('(row_number() over (partition by watch_id, address order by id) - 1) / ? as part', [
          mostInOne,
        ]),
      )
    await this.#deps.db.raw(
      `update spoor.watch_message m set letter = l.letter
         from (select id, first_value(identity) over (partition by watch_id, address, part order by id) as letter from (?) as fresh) l
        where m.id = l.id`,
      [fresh],
    )
  }

  async #mail(messages: readonly MessageRow[]): Promise<void> {
    const { db, mailer } = this.#deps
    const nowMs = this.#now()
    const ids = messages.map((one) => one.id)
    const at = new Date(nowMs).toISOString()
    try {
      if (!mailer) throw new Error('SPOOR_MAIL_URL is not set where Spoor is started')
      await mailer.send({ to: messages[0]!.address!, ...(await this.#letter(messages)) })
      await db('spoor.watch_message')
        .whereIn('id', ids)
        .update({ state: 'sent', sent_at: at, tried_at: at, tries: db.raw('tries + 1'), trouble: null })
    } catch (error) {
      for (const one of messages) await this.#notTaken(one, (error as Error).message, isRefused(error))
    }
  }

  /** It is tried again after a wait that grows, for three days. */
  async #notTaken({ id, firing_id, tries: before }: MessageRow, trouble: string, forGood: boolean): Promise<void> {
    const { db } = this.#deps
    const nowMs = this.#now()
    const tries = before + 1
    const { fired_at } = await db('spoor.watch_firing').where({ id: firing_id }).first<{ fired_at: string }>('fired_at')
    await db('spoor.watch_message')
      .where({ id, state: 'waiting' })
      .update({
        tried_at: new Date(nowMs).toISOString(),
        tries,
        trouble,
        ...afterwards({ tries, sinceMs: Date.parse(fired_at), nowMs, forGood }),
      })
  }

  /** What else is due for a receiver that took nothing waits as long as what it did not take, so that it comes after it. */
  async #postpone({ id, receiver_id }: MessageRow): Promise<void> {
    const { db } = this.#deps
    const failed = await db('spoor.watch_message')
      .where({ id })
      .first<{ due_at: string; state: string }>('due_at', 'state')
    if (failed.state !== 'waiting') return
    await db('spoor.watch_message')
      .where({ receiver_id, state: 'waiting' })
      .where('due_at', '<', failed.due_at)
      .update({ due_at: failed.due_at })
  }

  /** Posts one message to a program: a CloudEvent, signed as Standard Webhooks has it. @returns whether it was taken */
  async #post(message: MessageRow): Promise<boolean> {
    const { db, vault, address } = this.#deps
    const nowMs = this.#now()
    const receiver = await openReceiver({ db, vault }, message.receiver_id!, nowMs)
    if (!receiver) {
      await this.#notTaken(message, 'The receiver was ended.', true)
      return false
    }
    const watch = (await db('spoor.watch').where({ id: message.watch_id }).first<WatchRow>('*'))!
    const firing = (await db('spoor.watch_firing').where({ id: message.firing_id }).first<FiringRow>('*'))!
    const body = JSON.stringify({
      specversion: '1.0',
      id: message.identity,
      source: address,
      type: 'spoor.watch.fired',
      subject: `watch/${watch.id}`,
      time: firing.fired_at,
      datacontenttype: 'application/json',
      data: {
        watch: { id: watch.id, sentence: watchedWords(watch.fires, await scopeWords(db, watch.scope)) },
        words: (await firingWords(db, [watch], [firing])).get(firing.id),
        saves: firing.saves,
        firstSaves: firing.save_ids,
        from: firing.from_at,
        to: firing.to_at,
        link: linkTo(address, watch, firing),
        setBack: setBackLink(address, watch, firing),
        said: firing.said.map(({ words, path }) => ({ words, link: `${address}${path}` })),
      },
    })
    const seconds = Math.floor(nowMs / 1000)
    const at = new Date(nowMs).toISOString()
    try {
      await post(receiver.url, {
        headers: {
          'content-type': 'application/cloudevents+json; charset=utf-8',
          'webhook-id': message.identity,
          'webhook-timestamp': String(seconds),
          'webhook-signature': signatures(receiver.secrets, message.identity, seconds, body),
        },
        body,
        inside: receiver.inside,
      })
      await db('spoor.watch_message')
        .where({ id: message.id })
        .update({ state: 'sent', sent_at: at, tried_at: at, tries: message.tries + 1, trouble: null })
      return true
    } catch (error) {
      await this.#notTaken(message, (error as Error).message, false)
      return false
    }
  }

  /** What is written: which watch, what it saw, and the ways to it; no value of any record. */
  async #letter(messages: readonly MessageRow[]) {
    const { db, address } = this.#deps
    const watch = (await db('spoor.watch').where({ id: messages[0]!.watch_id }).first<WatchRow>('*'))!
    const firings = await db('spoor.watch_firing')
      .whereIn(
        'id',
        messages.map((one) => one.firing_id),
      )
      .orderBy('id')
      .select<FiringRow[]>('*')
    const words = await firingWords(db, [watch], firings)
    const sentence = watchedWords(watch.fires, await scopeWords(db, watch.scope))
    const lines = firings.map((one) => ({
      words: words.get(one.id)!,
      at: clockWords(one.saves === 0 ? one.to_at : one.from_at, watch.zone),
      link: linkTo(address, watch, one),
      setBack: setBackLink(address, watch, one),
      more: one.said.slice(1).map((more) => ({ words: more.words, link: `${address}${more.path}` })),
    }))
    const [first] = firings
    const subject = first?.bucket.startsWith(digestMark)
      ? `Spoor: what Today shows, ${dateText(first.bucket.slice(digestMark.length))}`
      : lines.length === 1
        ? `Spoor: ${lines[0]!.words}`
        : `Spoor: ${counted(lines.length, 'time')} what watch ${watch.id} looks for`
    const about = `Watch ${watch.id}: ${sentence}`
    const thread = `<watch-${watch.id}@spoor>`
    return {
      subject: subject.slice(0, 200),
      text: [
        ...lines.flatMap((line) => [
          line.words,
          line.at,
          line.link,
          ...(line.setBack ? [`To set it back: ${line.setBack}`] : []),
          '',
          ...line.more.flatMap((more) => [more.words, more.link, '']),
        ]),
        about,
        `To be told no more, or otherwise: ${address}/watches?watch=${watch.id}`,
        '',
      ].join('\n'),
      html: `<div style="font-family:sans-serif;font-size:15px;line-height:1.5">${lines
        .map(
          (line) =>
            `<p><a href="${escaped(line.link)}">${escaped(line.words)}</a><br><span style="color:#5a6662">${escaped(line.at)}${line.setBack ? ` · <a href="${escaped(line.setBack)}">set it back …</a>` : ''}</span></p>${line.more.map((more) => `<p><a href="${escaped(more.link)}">${escaped(more.words)}</a></p>`).join('')}`,
        )
        .join(
          '',
        )}<p style="color:#5a6662">${escaped(about)}<br><a href="${escaped(`${address}/watches?watch=${watch.id}`)}">To be told no more, or otherwise</a></p></div>`,
      messageId: `<${messages[0]!.letter!}@spoor>`,
      inReplyTo: thread,
      headers: {
        References: thread,
        'List-Id': `<watch-${watch.id}.spoor>`,
        'List-Unsubscribe': `<${address}/watches?watch=${watch.id}>`,
        'Auto-Submitted': 'auto-generated',
      },
    }
  }
}

/** Straight to the save, or to all that fired it. */
function linkTo(
  address: string,
  watch: WatchRow,
  { save_ids: saves, saves: count, bucket, from_at, to_at, said }: FiringRow,
): string {
  if (said.length > 0) return `${address}${said[0]!.path}`
  if (bucket.startsWith(trialMark)) return `${address}/watches?watch=${watch.id}`
  if (count === 1) return `${address}/changes?save=${saves[0]}`
  if (bucket.startsWith('run:')) return `${address}/changes?how=r${bucket.slice('run:'.length)}`
  const { from, to, zone } = spanAround(from_at, to_at, watch.zone)
  const when = `when=${from}..${to}@${zone}`
  return `${address}/changes?${[scopeOfBucket(watch.scope, bucket), when].filter(Boolean).join('&')}`
}

/** A scope, narrowed to whom and what a bucket counted. */
function scopeOfBucket(text: string, bucket: string): string {
  const pair = pairOf(bucket)
  if (!pair) return text
  const { scope } = parseScope(new URLSearchParams(text))
  return new URLSearchParams(scopeEntries(withPair(scope, pair))).toString()
}

/** Where what it saw can be set back, by whoever may; undefined where it saw nothing. */
function setBackLink(address: string, watch: WatchRow, firing: FiringRow): string | undefined {
  if (firing.saves === 0) return undefined
  // A save is set back with all that its transaction made.
  const link = firing.saves === 1 ? `${address}/changes?how=x${firing.save_ids[0]}` : linkTo(address, watch, firing)
  return `${link}&act=set-back`
}

const escaped = (text: string) => text.replace(/[&<>"']/g, (sign) => `&#${sign.charCodeAt(0)};`)
