import { allows, sightOf, type RegularPack, type routes } from '@spoor/contract'
import {
  makingsDue,
  nextMaking,
  parseScope,
  rhythmWords,
  scopeEntries,
  scopeOfTurn,
  type Rhythm,
  type Turn,
} from '@spoor/core'
import type { Knex } from 'knex'
import type { Logger } from 'pino'
import type * as v from 'valibot'
import type { Database } from '../database/knex.ts'
import { Problem, unforeseen } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { exportWords, wordsOfScopes } from '../ledger/scope-words.ts'
import { holidaySet } from '../people/holidays.ts'
import { People } from '../people/people.ts'
import { requestedScopes } from '../scope/request.ts'
import { blackedScopesOf } from './closings.ts'
import { askForPack, putMails } from './store.ts'

/** Packs that are made again and again, each of the spell before its turn. */

export type RegularBody = v.InferOutput<(typeof routes.makeRegularPack)['body']>
type Wish = Omit<RegularBody, 'rhythm' | 'mail'>

interface RegularRow {
  id: number
  wish: Wish
  rhythm: Rhythm
  mail: string[]
  owner_id: number
  owner_name: string
  made_at: string
  until_at: string
  trouble: string | null
}

/** Those that go on and that somebody may know of: all, or their own for whoever sees a part only. */
function rows(db: Knex, person?: SignedIn) {
  const query = db('spoor.regular_pack as r')
    .join('spoor.person as p', 'p.id', 'r.owner_id')
    .whereNull('r.ended_at')
    .orderBy('r.id')
    .select<RegularRow[]>('r.*', 'p.name as owner_name')
  return person && sightOf(person.role) !== 'everything' ? query.where('r.owner_id', person.id) : query
}

export async function listRegularPacks(db: Database, person: SignedIn): Promise<RegularPack[]> {
  const found = (await rows(db, person)) as RegularRow[]
  const [words, holidays, made] = await Promise.all([
    wordsOfScopes(
      db,
      found.map(({ wish }) => wish.scope),
    ),
    holidaySet(db),
    db('spoor.pack')
      .whereIn(
        'regular_id',
        found.map(({ id }) => id),
      )
      .groupBy('regular_id')
      .select<{ regular_id: number; made: number; last: number }[]>(
        'regular_id',
        db.raw('count(*)::int as made'),
        db.raw('max(id) as last'),
      ),
  ])
  return found.map((row, at) => {
    const packs = made.find((one) => one.regular_id === row.id)
    const next = nextMaking(row.rhythm, { nowMs: Date.now(), zone: row.wish.zone, holidays })
    return {
      id: row.id,
      title: row.wish.title,
      why: row.wish.why,
      sentence: words[at]!,
      rhythm: row.rhythm,
      zone: row.wish.zone,
      mail: row.mail,
      owner: { id: row.owner_id, name: row.owner_name },
      madeAt: row.made_at,
      nextAt: new Date(next.atMs).toISOString(),
      made: packs?.made ?? 0,
      lastPackId: packs?.last ?? null,
      trouble: row.trouble,
    }
  })
}

/** What is asked for in one turn: its scope within the days of the spell, which its title says, too. */
function wishOf({ wish }: Pick<RegularRow, 'wish'>, { from, to }: Turn): Wish {
  const { scope } = parseScope(new URLSearchParams(wish.scope))
  return {
    ...wish,
    title: `${wish.title}, ${from} to ${to}`,
    scope: new URLSearchParams(scopeEntries(scopeOfTurn(scope, { from, to }, wish.zone))).toString(),
  }
}

/**
 * A pack that is made at each turn from now on.
 * @throws Problem where it could not be made
 */
export async function makeRegularPack(
  db: Database,
  { rhythm, mail, ...wish }: RegularBody,
  person: SignedIn,
  { mayMail }: { mayMail: boolean },
): Promise<RegularPack[]> {
  if (parseScope(new URLSearchParams(wish.scope)).scope.when)
    throw new Problem(
      'rule-broken',
      'A regular pack is of the time before each of its turns, so its scope cannot say a time. Nothing was kept; leave that part out.',
    )
  if (mail.length > 0) demandMail(person, mayMail)
  await requestedScopes(db, wish.scope, person)
  await blackedScopesOf(db, wish.blackedScopes ?? [], person)
  const words = await exportWords(db, wish.scope, person)
  await db.transaction(async (trx) => {
    const [row] = await trx('spoor.regular_pack')
      .insert({
        wish: JSON.stringify(wish),
        rhythm: JSON.stringify(rhythm),
        mail: [...new Set(mail)],
        owner_id: person.id,
      })
      .returning<{ id: number }[]>('id')
    await recordEvent(trx, {
      kind: 'export',
      personId: person.id,
      words: `asked for regular pack ${row!.id}, ${rhythmWords(rhythm)}: ${words}`,
    })
  })
  return await listRegularPacks(db, person)
}

/** @throws Problem where somebody may not send packs, or nobody can */
export function demandMail(person: SignedIn, mayMail: boolean): void {
  if (!allows(person.role, 'packs.hand'))
    throw new Problem('not-allowed', 'A pack is sent by whoever may hand packs over. Nothing was kept.')
  if (!mayMail)
    throw new Problem(
      'rule-broken',
      'Spoor can send no mail: SPOOR_MAIL_URL is not set where it is started. Nothing was kept.',
    )
}

/** Lets it be made no more; what was made stays. @throws Problem where it is not one's own and one does not look after all */
export async function endRegularPack(db: Database, person: SignedIn, regularId: number): Promise<RegularPack[]> {
  await db.transaction(async (trx) => {
    const row = (await rows(trx, person).where('r.id', regularId).first()) as RegularRow | undefined
    if (!row) throw new Problem('not-found', `There is no regular pack ${regularId} that you may see.`)
    if (row.owner_id !== person.id && !person.permissions.includes('people.manage'))
      throw new Problem(
        'not-allowed',
        `Regular pack ${regularId} is ${row.owner_name}’s: they or an administrator can end it. Nothing was changed.`,
      )
    await trx('spoor.regular_pack')
      .where({ id: regularId })
      .update({ ended_at: trx.raw('clock_timestamp()'), ended_by: person.id })
    await recordEvent(trx, { kind: 'export', personId: person.id, words: `ended regular pack ${regularId}` })
  })
  return await listRegularPacks(db, person)
}

/** So long a link in a mail leads to its pack, and so often it can be taken by it. */
export const mailedFor = { days: 30, most: 5 } as const

/** Asks for every regular pack whose turn came, each once; one that cannot be asked for says why, and keeps no other waiting. */
export async function askForRegular({ db, log }: { db: Database; log: Logger }, nowMs: number): Promise<void> {
  const holidays = await holidaySet(db)
  for (const row of (await rows(db)) as RegularRow[]) {
    const { wish, rhythm, until_at } = row
    const due = makingsDue(rhythm, { afterMs: Date.parse(until_at), nowMs, zone: wish.zone, holidays })
    if (due.length === 0) continue
    const trouble = await troubleWith(log, async () => {
      const owner = await new People(db).find(row.owner_id)
      if (!owner || !allows(owner.role, 'packs.make'))
        throw new Problem('not-allowed', 'Its owner may make no packs any more. End it, and make it as your own.')
      for (const turn of due) await askOnce(db, row, turn, owner)
    })
    if (trouble !== row.trouble) await db('spoor.regular_pack').where({ id: row.id }).update({ trouble })
  }
}

async function troubleWith(log: Logger, work: () => Promise<void>): Promise<string | null> {
  try {
    await work()
    return null
  } catch (error) {
    if (error instanceof Problem) return error.message
    log.warn({ err: error }, 'a regular pack could not be asked for and is tried again')
    return unforeseen
  }
}

/** Thrown out of asking for a pack that another server asks for. */
class AskedFor extends Error {}

async function askOnce(db: Database, row: RegularRow, turn: Turn, owner: SignedIn): Promise<void> {
  const along = async (trx: Knex.Transaction, packId: number) => {
    // Whoever else looks waits here, and then finds it.
    await trx('spoor.regular_pack').where({ id: row.id }).forUpdate().first('id')
    const turnOf = { regular_id: row.id, spell_from: turn.from }
    if (await trx('spoor.pack').where(turnOf).first('id')) throw new AskedFor()
    await trx('spoor.pack').where({ id: packId }).update(turnOf)
    await putMails(trx, packId, owner, { to: row.mail, ...mailedFor })
  }
  try {
    await askForPack(db, wishOf(row, turn), owner, { along })
  } catch (error) {
    if (!(error instanceof AskedFor)) throw error
  }
  await db('spoor.regular_pack')
    .where({ id: row.id })
    .update({ until_at: new Date(turn.atMs).toISOString() })
}
