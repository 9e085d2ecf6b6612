import { randomUUID } from 'node:crypto'
import { permissions, type Firing, type Saying, type Told, type Watch, type WatchRule } from '@spoor/contract'
import { watchedWords } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { scopeWords, wordsOfScopes } from '../ledger/scope-words.ts'
import { watchedScopes } from './in-watch.ts'
import { firingWords, trialMark } from './words.ts'

export interface WatchRow {
  id: number
  scope: string
  fires: WatchRule['fires']
  speaks: WatchRule['speaks']
  quiet: WatchRule['quiet']
  zone: string
  people: number[]
  mail: string[]
  receivers: number[]
  owner_id: number
  owner_name: string
  made_at: string
  state: Watch['state']
  state_why: string | null
  until_save: string
  /** From when it looks, where what it looks at has no number of its own. */
  since: string
  trouble: string | null
}

export function watchRows(db: Knex) {
  return db('spoor.watch as w')
    .join('spoor.person as o', 'o.id', 'w.owner_id')
    .whereNull('w.removed_at')
    .orderBy('w.id')
    .select<WatchRow[]>('w.*', 'o.name as owner_name')
}

const stripDays = 365

/** Watches with their past, read for all of them at once. */
async function shownAll(db: Database, rows: readonly WatchRow[]): Promise<Watch[]> {
  const ids = [boundArray(rows.map((row) => row.id))]
  const fired = () =>
    db('spoor.watch_firing')
      .whereRaw('watch_id = any(?::int[])', ids)
      .whereNotNull('fired_at')
      .whereRaw('bucket not like ?', [`${trialMark}%`])
  const [counts, days, messages, people, receivers, fields, sentences] = await Promise.all([
    fired()
      .groupBy('watch_id')
      .select<{ watch_id: number; fired: number; last: string }[]>(
        'watch_id',
        db.raw('count(*)::int as fired'),
        db.raw('max(fired_at) as last'),
      ),
    fired()
      .whereRaw(`fired_at > now() - make_interval(days => ?)`, [stripDays])
      .groupByRaw(`watch_id, date_trunc('day', fired_at)`)
      .orderBy('at')
      .select<{ watch_id: number; at: string }[]>('watch_id', db.raw('min(fired_at) as at')),
    db('spoor.watch_message')
      .whereRaw('watch_id = any(?::int[])', ids)
      .whereIn('state', ['waiting', 'given up'])
      .groupBy('watch_id')
      .select<{ watch_id: number; waiting: number; given_up: number }[]>(
        'watch_id',
        db.raw(`(count(*) filter (where state = 'waiting'))::int as waiting`),
        db.raw(`(count(*) filter (where state = 'given up'))::int as given_up`),
      ),
    db('spoor.person').select<{ id: number; name: string }[]>('id', 'name').orderBy('name'),
    db('spoor.receiver').select<{ id: number; name: string }[]>('id', 'name').orderBy('name'),
    db('spoor.field')
      .whereIn(
        'id',
        rows.flatMap(({ fires }) => (fires.fires === 'sum' ? [fires.fieldId] : [])),
      )
      .select<{ id: number; name: string }[]>('id', 'name'),
    wordsOfScopes(
      db,
      rows.map((row) => row.scope),
    ),
  ])
  return rows.map((row, at) => {
    const count = counts.find((one) => one.watch_id === row.id)
    const open = messages.find((one) => one.watch_id === row.id)
    const among = (all: readonly { id: number; name: string }[], wanted: readonly number[]) =>
      all.flatMap(({ id, name }) => (wanted.includes(id) ? [name] : []))
    return {
      id: row.id,
      scope: row.scope,
      sentence: sentences[at]!,
      field: fields.find(({ id }) => row.fires.fires === 'sum' && row.fires.fieldId === id)?.name ?? null,
      fires: row.fires,
      speaks: row.speaks,
      quiet: row.quiet,
      zone: row.zone,
      people: row.people,
      mail: row.mail,
      receivers: row.receivers,
      told: [...among(people, row.people), ...row.mail, ...among(receivers, row.receivers)],
      owner: { id: row.owner_id, name: row.owner_name },
      madeAt: row.made_at,
      state: row.state,
      stateWhy: row.state_why,
      trouble: row.trouble,
      fired: count?.fired ?? 0,
      strip: days.flatMap((one) => (one.watch_id === row.id ? [one.at] : [])),
      lastAt: count?.last ?? null,
      waiting: open?.waiting ?? 0,
      givenUp: open?.given_up ?? 0,
    }
  })
}

const shown = async (db: Database, row: WatchRow): Promise<Watch> => (await shownAll(db, [row]))[0]!

export async function listWatches(db: Database): Promise<Watch[]> {
  return await shownAll(db, await watchRows(db))
}

/** @throws Problem where there is none */
async function watchRow(db: Knex, watchId: number): Promise<WatchRow> {
  const row = (await watchRows(db).where('w.id', watchId).first()) as WatchRow | undefined
  if (!row) throw new Problem('not-found', `There is no watch ${watchId}.`)
  return row
}

/** @throws Problem unless it is somebody's own, or they look after all of them */
function demandOwn(row: WatchRow, person: SignedIn): void {
  if (row.owner_id !== person.id && !person.permissions.includes('people.manage'))
    throw new Problem(
      'not-allowed',
      `Watch ${row.id} is ${row.owner_name}’s: they or an administrator can change it. Nothing was changed.`,
    )
}

async function demandRule(db: Database, rule: WatchRule, person: SignedIn, mayMail: boolean): Promise<void> {
  await watchedScopes(db, rule, person)
  if (rule.people.length + rule.mail.length + rule.receivers.length === 0)
    throw new Problem('rule-broken', 'Say who is to be told. Nothing was kept.')
  if (rule.mail.length > 0 && !mayMail)
    throw new Problem(
      'rule-broken',
      'Spoor can send no mail: SPOOR_MAIL_URL is not set where it is started. Nothing was kept.',
    )
  const there = await db('spoor.receiver')
    .whereRaw('id = any(?::int[])', [boundArray(rule.receivers)])
    .whereNull('ended_at')
    .pluck<number[]>('id')
  if (new Set(rule.receivers).size > there.length)
    throw new Problem('rule-broken', 'A receiver of these is not there any more. Nothing was kept.')
  const may = await db('spoor.person')
    .whereRaw('id = any(?::int[])', [boundArray(rule.people)])
    .whereNull('disabled_at')
    .whereIn('role', [...permissions['watches.read']])
    .pluck<number[]>('id')
  if (new Set(rule.people).size > may.length)
    throw new Problem(
      'rule-broken',
      'Only an administrator, a reviewer or an approver who may sign in can be told in Spoor. Nothing was kept.',
    )
}

const kept = (rule: WatchRule) => ({
  scope: rule.scope,
  fires: JSON.stringify(rule.fires),
  speaks: JSON.stringify(rule.speaks),
  quiet: rule.quiet === null ? null : JSON.stringify(rule.quiet),
  zone: rule.zone,
  people: [...new Set(rule.people)],
  mail: [...new Set(rule.mail)],
  receivers: [...new Set(rule.receivers)],
})

const head = (db: Knex) => db('ledger.head').select('last_save_id')

/** A watch that looks at what comes from now on. */
export async function makeWatch(
  db: Database,
  person: SignedIn,
  rule: WatchRule,
  { mayMail }: { mayMail: boolean },
): Promise<Watch> {
  await demandRule(db, rule, person, mayMail)
  const words = await scopeWords(db, rule.scope)
  const id = await db.transaction(async (trx) => {
    const [row] = await trx('spoor.watch')
      .insert({ ...kept(rule), owner_id: person.id, until_save: head(trx) })
      .returning<{ id: number }[]>('id')
    await recordEvent(trx, { kind: 'watch', personId: person.id, words: `made watch ${row!.id}: ${words}` })
    return row!.id
  })
  return await shown(db, await watchRow(db, id))
}

/** Other words for a watch. What belonged together before and did not fire yet is counted afresh. */
export async function changeWatch(
  db: Database,
  person: SignedIn,
  { watchId, rule, mayMail }: { watchId: number; rule: WatchRule; mayMail: boolean },
): Promise<Watch> {
  demandOwn(await watchRow(db, watchId), person)
  await demandRule(db, rule, person, mayMail)
  const words = await scopeWords(db, rule.scope)
  await db.transaction(async (trx) => {
    await trx('spoor.watch').where({ id: watchId }).forUpdate().first('id')
    await trx('spoor.watch')
      .where({ id: watchId })
      .update({ ...kept(rule), until_save: head(trx), since: trx.raw('clock_timestamp()'), trouble: null })
    await trx('spoor.watch_firing').where({ watch_id: watchId }).whereNull('fired_at').delete()
    await recordEvent(trx, { kind: 'watch', personId: person.id, words: `changed watch ${watchId}: ${words}` })
  })
  return await shown(db, await watchRow(db, watchId))
}

const stateWords = { on: 'let go on', muted: 'muted', paused: 'paused' } as const

export async function setWatchState(
  db: Database,
  person: SignedIn,
  { watchId, state, why }: { watchId: number; state: Watch['state']; why: string | null },
): Promise<Watch> {
  const row = await watchRow(db, watchId)
  demandOwn(row, person)
  if (state !== 'on' && why === null)
    throw new Problem('rule-broken', 'Say why it is to tell nobody. Nothing was changed.')
  await db.transaction(async (trx) => {
    await trx('spoor.watch')
      .where({ id: watchId })
      .update({
        state,
        state_why: state === 'on' ? null : why,
        // What came while it was paused was not watched.
        ...(row.state === 'paused' ? { until_save: head(trx), since: trx.raw('clock_timestamp()') } : {}),
      })
    await recordEvent(trx, {
      kind: 'watch',
      personId: person.id,
      words: `${stateWords[state]} watch ${watchId}${why === null ? '' : `: ${why}`}`,
    })
  })
  return await shown(db, await watchRow(db, watchId))
}

export async function removeWatch(db: Database, person: SignedIn, watchId: number): Promise<void> {
  demandOwn(await watchRow(db, watchId), person)
  await db.transaction(async (trx) => {
    await trx('spoor.watch').where({ id: watchId }).update({ removed_at: trx.fn.now() })
    await trx('spoor.watch_message')
      .where({ watch_id: watchId, state: 'waiting' })
      .update({ state: 'given up', trouble: 'The watch was taken away.' })
    await recordEvent(trx, { kind: 'watch', personId: person.id, words: `took watch ${watchId} away` })
  })
}

/** A message to everybody whom a watch tells, whatever the hour, that says that nothing happened. */
export async function tryMessage(db: Database, person: SignedIn, watchId: number): Promise<Watch> {
  const row = await watchRow(db, watchId)
  demandOwn(row, person)
  await db.transaction(async (trx) => {
    const [firing] = await trx('spoor.watch_firing')
      .insert({
        watch_id: watchId,
        bucket: `${trialMark}${randomUUID()}`,
        saves: 0,
        from_at: trx.fn.now(),
        to_at: trx.fn.now(),
        save_ids: [],
        fired_at: trx.fn.now(),
      })
      .returning<{ id: string }[]>('id')
    await putMessages(trx, [{ watch: row, firingId: firing!.id, dueAt: new Date().toISOString() }])
    await recordEvent(trx, { kind: 'watch', personId: person.id, words: `had watch ${watchId} send a trial message` })
  })
  return await shown(db, await watchRow(db, watchId))
}

/** What a watch tells of, and when. */
export interface ToTell {
  watch: Pick<WatchRow, 'id' | 'people' | 'mail' | 'receivers'>
  firingId: string
  dueAt: string
}

const messagesAtOnce = 1000

/** A message for everybody whom the watches tell, which waits until it is due. */
export async function putMessages(trx: Knex.Transaction, tellings: readonly ToTell[]): Promise<void> {
  const messages = tellings.flatMap(({ watch, firingId, dueAt }) => {
    const message = { firing_id: firingId, watch_id: watch.id, due_at: dueAt }
    return [
      ...watch.people.map((person_id) => ({ ...message, way: 'spoor', person_id })),
      ...watch.mail.map((address) => ({ ...message, way: 'mail', address })),
      ...watch.receivers.map((receiver_id) => ({ ...message, way: 'receiver', receiver_id })),
    ]
  })
  for (let at = 0; at < messages.length; at += messagesAtOnce)
    await trx('spoor.watch_message').insert(messages.slice(at, at + messagesAtOnce))
}

/** @throws Problem where the message was not given up */
export async function sendAgain(
  db: Database,
  person: SignedIn,
  { watchId, messageId }: { watchId: number; messageId: string },
): Promise<Watch> {
  demandOwn(await watchRow(db, watchId), person)
  const sent = await db('spoor.watch_message')
    .where({ id: messageId, watch_id: watchId, state: 'given up' })
    .update({ state: 'waiting', due_at: db.fn.now(), trouble: null, letter: null })
  if (sent === 0) throw new Problem('not-found', 'This message was not given up. Nothing was changed.')
  return await shown(db, await watchRow(db, watchId))
}

const firingsAtOnce = 50

/** When a watch fired and what became of its messages, the latest first. */
export async function listFirings(
  db: Database,
  watchId: number,
  before: string | undefined,
): Promise<{ firings: Firing[]; next: string | null }> {
  const row = await watchRow(db, watchId)
  const query = db('spoor.watch_firing')
    .where({ watch_id: watchId })
    .whereNotNull('fired_at')
    .orderBy('id', 'desc')
    .limit(firingsAtOnce + 1)
    .select<FiringRow[]>(
      'id',
      'watch_id',
      'bucket',
      'saves',
      'from_at',
      'to_at',
      'save_ids',
      'said',
      'usual',
      'fired_at',
    )
  if (before !== undefined) void query.where('id', '<', before)
  const rows = await query
  const page = rows.slice(0, firingsAtOnce)
  const messages = await db('spoor.watch_message as m')
    .leftJoin('spoor.person as p', 'p.id', 'm.person_id')
    .leftJoin('spoor.receiver as r', 'r.id', 'm.receiver_id')
    .whereIn(
      'm.firing_id',
      page.map((one) => one.id),
    )
    .orderBy('m.id')
    .select<MessageRow[]>('m.*', db.raw('coalesce(p.name, r.name) as name'))
  const words = await firingWords(db, [row], page)
  return {
    firings: page.map((one) => ({
      id: Number(one.id),
      at: one.fired_at,
      saves: one.saves,
      from: one.from_at,
      to: one.to_at,
      words: words.get(one.id)!,
      saveId: one.save_ids[0] ?? null,
      said: one.said,
      messages: messages
        .filter((message) => message.firing_id === one.id)
        .map((message) => ({
          id: Number(message.id),
          to: message.name ?? message.address!,
          way: message.way,
          state: message.state,
          dueAt: message.due_at,
          sentAt: message.sent_at,
          readAt: message.read_at,
          tries: message.tries,
          trouble: message.trouble,
        })),
    })),
    next: rows.length > firingsAtOnce ? page.at(-1)!.id : null,
  }
}

export interface FiringRow {
  id: string
  watch_id: number
  bucket: string
  saves: number
  from_at: string
  to_at: string
  save_ids: string[]
  said: Saying[]
  /** How many saves are usual, where that was asked. */
  usual: string | null
  fired_at: string
}

export interface MessageRow {
  id: string
  firing_id: string
  watch_id: number
  way: 'spoor' | 'mail' | 'receiver'
  person_id: number | null
  address: string | null
  receiver_id: number | null
  identity: string
  /** By mail, in which letter it goes: the identity of the first in it. Null until it is first tried. */
  letter: string | null
  state: 'waiting' | 'sent' | 'given up'
  due_at: string
  tries: number
  trouble: string | null
  sent_at: string | null
  read_at: string | null
  name: string | null
}

const mostTold = 50

/** What watches told somebody in Spoor and they have not read. */
export async function toldTo(db: Database, personId: number): Promise<{ told: Told[]; count: number }> {
  const unread = () =>
    db('spoor.watch_message as m')
      .where({ 'm.person_id': personId, 'm.way': 'spoor', 'm.state': 'sent' })
      .whereNull('m.read_at')
  const rows = await unread()
    .join('spoor.watch_firing as f', 'f.id', 'm.firing_id')
    .orderBy('m.id', 'desc')
    .limit(mostTold)
    .select<(FiringRow & { message_id: string })[]>('f.*', 'm.id as message_id')
  const [count] = await unread().count<{ count: string }[]>('* as count')
  const watches = (await db('spoor.watch as w')
    .join('spoor.person as o', 'o.id', 'w.owner_id')
    .whereIn(
      'w.id',
      rows.map((one) => one.watch_id),
    )
    .select('w.*', 'o.name as owner_name')) as WatchRow[]
  const [words, sentences] = await Promise.all([
    firingWords(db, watches, rows),
    wordsOfScopes(
      db,
      watches.map((watch) => watch.scope),
    ),
  ])
  const sentenceOf = new Map(watches.map(({ id, fires }, at) => [id, watchedWords(fires, sentences[at]!)]))
  const told = rows.map((one) => ({
    id: Number(one.message_id),
    watchId: one.watch_id,
    at: one.fired_at,
    words: words.get(one.id)!,
    sentence: sentenceOf.get(one.watch_id)!,
    saves: one.saves,
    saveId: one.save_ids[0] ?? null,
    said: one.said,
  }))
  return { told, count: Number(count!.count) }
}

export async function readTold(db: Database, personId: number, messageIds: readonly number[]): Promise<number> {
  return await db('spoor.watch_message')
    .where({ person_id: personId, way: 'spoor' })
    .whereNull('read_at')
    .whereIn('id', [...messageIds])
    .update({ read_at: db.fn.now() })
}
