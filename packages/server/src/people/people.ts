import { hash, verify } from '@node-rs/argon2'
import { permissionsOf, sightOf, type Role, type SpoorPerson } from '@spoor/contract'
import { parseScope } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { isLimited } from '../ledger/reach.ts'

/** OWASP's least for argon2id: 19 MiB, two passes, one lane. */
const argon = { memoryCost: 19_456, timeCost: 2, parallelism: 1 }

/** An absence this long ends a visit; a lunch does not. */
const visitGapHours = 3

interface PersonRow {
  id: number
  login: string
  name: string
  role: Role
  password_hash: string
  actor_id: number | null
  reach: string | null
  reach_from: string | null
  reach_until: string | null
  disabled_at: string | null
  last_seen_at: string | null
  looked_until: string | null
  zone: string | null
}

export interface NewPerson {
  login: string
  name: string
  role: Role
  password: string
  /** The name under which this person's own changes are captured. */
  actorName?: string
}

/** Who somebody is to Spoor, as an administrator says it. */
export interface PersonSettings {
  name: string
  role: Role
  actorId: number | null
  reach: string | null
  reachFrom: string | null
  reachUntil: string | null
}

/** The one form of the name somebody signs in with, however it was typed. */
export function loginName(typed: string): string {
  return typed.trim().toLowerCase()
}

export class People {
  readonly #db: Database
  #decoy: Promise<string> | undefined
  constructor(db: Database) {
    this.#db = db
  }

  async find(id: number): Promise<SignedIn | null> {
    const row = (await this.#table().where({ id }).whereNull('disabled_at').first(this.#columns())) as
      PersonRow | undefined
    return row ? signedIn(row) : null
  }

  /** The person when login and password belong together; takes as long when the login does not exist. */
  async authenticate(login: string, password: string): Promise<SignedIn | null> {
    const row = await this.#table()
      .where({ login: loginName(login) })
      .whereNull('disabled_at')
      .first<PersonRow | undefined>(this.#columns() as never)
    this.#decoy ??= hash('no such person', argon)
    const right = await verify(row?.password_hash ?? (await this.#decoy), password)
    if (!row || !right) return null
    await this.saw(row.id)
    return await this.find(row.id)
  }

  /**
   * Somebody is here. After {@link visitGapHours} of absence a new visit begins, and the one before it ended where they
   * were last seen: that is what "since I last looked" means.
   */
  async saw(id: number): Promise<void> {
    await this.#db.raw(
      `update spoor.person set last_seen_at = now(),
         looked_until = case when last_seen_at < now() - ? * interval '1 hour' then last_seen_at else looked_until end
       where id = ?`,
      [visitGapHours, id],
    )
  }

  /** They say that they have looked at everything until a moment; never later than now. */
  async lookedUntil(id: number, at: string): Promise<void> {
    await this.#db.raw(`update spoor.person set looked_until = least(?::timestamptz, now()) where id = ?`, [at, id])
  }

  /** The zone in which they want times told; null is that of their browser. */
  async chooseZone(id: number, zone: string | null): Promise<void> {
    await this.#table().where({ id }).update({ zone })
  }

  async byLogin(login: string): Promise<SignedIn | null> {
    const row = await this.#table().where({ login }).first<PersonRow | undefined>()
    return row ? signedIn(row) : null
  }

  /** Adds a person, or leaves one with the same login as it is. */
  async add(person: NewPerson): Promise<void> {
    const login = loginName(person.login)
    if (await this.#table().where({ login }).first()) return
    const passwordHash = await hash(person.password, argon)
    const actorId = person.actorName ? await this.#actor(person.actorName) : null
    await this.#table()
      .insert({ login, name: person.name, role: person.role, password_hash: passwordHash, actor_id: actorId })
      .onConflict('login')
      .ignore()
  }

  /** @returns whether the password was right and is another one now. Sessions of theirs but the one named are over. */
  async changeOwnPassword(id: number, current: string, password: string, keptSession: string): Promise<boolean> {
    const row = await this.#table().where({ id }).first<PersonRow | undefined>()
    if (!row || !(await verify(row.password_hash, current))) return false
    await this.#table()
      .where({ id })
      .update({ password_hash: await hash(password, argon) })
    await this.#db('spoor.session')
      .whereRaw(`sess ->> 'personId' = ?`, [String(id)])
      .whereNot({ sid: keptSession })
      .delete()
    return true
  }

  async list(): Promise<SpoorPerson[]> {
    return (await this.#table().orderBy('name').select(this.#columns())).map(shown)
  }

  /** @throws Problem when the login is taken or something goes against a rule; nothing is changed then. */
  async create(login: string, password: string, settings: PersonSettings): Promise<SpoorPerson> {
    this.#demandSound(settings)
    if (await this.#table().where({ login }).first('id'))
      throw new Problem('name-taken', `Somebody signs in as “${login}” already. Nobody was added; choose another name.`)
    const [row] = await this.#table()
      .insert({ login, password_hash: await hash(password, argon), ...settingsRow(settings) })
      .returning<{ id: number }[]>('id')
    return await this.#shown(row!.id)
  }

  /** Changes what somebody may do. Whoever is switched off is out at once. */
  async change(
    id: number,
    settings: PersonSettings,
    { password, disabled, by }: { password: string | undefined; disabled: boolean; by: number },
  ): Promise<SpoorPerson> {
    this.#demandSound(settings)
    const before = await this.#table().where({ id }).first<PersonRow | undefined>()
    if (!before) throw new Problem('not-found', 'There is no such person. Nothing was changed.')
    if (id === by && (disabled || settings.role !== before.role))
      throw new Problem(
        'rule-broken',
        'Nobody changes their own role or switches themselves off; another administrator can. Nothing was changed.',
      )
    await this.#table()
      .where({ id })
      .update({
        ...settingsRow(settings),
        disabled_at: disabled ? (before.disabled_at ?? this.#db.fn.now()) : null,
        ...(password === undefined ? {} : { password_hash: await hash(password, argon) }),
      })
    if (password !== undefined || disabled)
      await this.#db('spoor.session')
        .whereRaw(`sess ->> 'personId' = ?`, [String(id)])
        .delete()
    return await this.#shown(id)
  }

  #demandSound({ role, reach, reachFrom, reachUntil }: PersonSettings): void {
    if (sightOf(role) === 'scope' && (reach === null || !isLimited(parseScope(new URLSearchParams(reach)).scope)))
      throw new Problem('rule-broken', 'An auditor needs a scope to see anything. Nothing was changed.')
    const problems = reach === null ? [] : parseScope(new URLSearchParams(reach)).problems
    if (problems.length > 0)
      throw new Problem('bad-scope', 'The auditor’s scope was not understood. Nothing was changed.', {
        pieces: problems,
      })
    if (reachFrom !== null && reachUntil !== null && reachFrom > reachUntil)
      throw new Problem(
        'rule-broken',
        `The days end (${reachUntil}) before they begin (${reachFrom}). Nothing was changed.`,
      )
  }

  async #shown(id: number): Promise<SpoorPerson> {
    return shown((await this.#table().where({ id }).first(this.#columns())) as PersonRow)
  }

  #columns() {
    return ['*', this.#db.raw('reach_from::text as reach_from'), this.#db.raw('reach_until::text as reach_until')]
  }

  async #actor(name: string): Promise<number> {
    const { rows } = await this.#db.raw<{ rows: { id: number }[] }>(
      `insert into spoor.actor (kind, name) values ('person', ?) on conflict (kind, name) do update set name = excluded.name returning id`,
      [name],
    )
    return rows[0]!.id
  }

  #table() {
    return this.#db.withSchema('spoor').table('person')
  }
}

function signedIn(row: PersonRow): SignedIn {
  return {
    id: row.id,
    login: row.login,
    name: row.name,
    role: row.role,
    permissions: permissionsOf(row.role),
    lookedAt: row.looked_until,
    zone: row.zone,
    actorId: row.actor_id,
    reach: row.reach,
    reachFrom: row.reach_from,
    reachUntil: row.reach_until,
  }
}

function settingsRow(settings: PersonSettings) {
  const scoped = sightOf(settings.role) === 'scope'
  return {
    name: settings.name,
    role: settings.role,
    actor_id: settings.actorId,
    reach: scoped ? settings.reach : null,
    reach_from: scoped ? settings.reachFrom : null,
    reach_until: scoped ? settings.reachUntil : null,
  }
}

function shown(row: PersonRow): SpoorPerson {
  return {
    id: row.id,
    login: row.login,
    name: row.name,
    role: row.role,
    actorId: row.actor_id,
    reach: row.reach,
    reachFrom: row.reach_from,
    reachUntil: row.reach_until,
    disabledAt: row.disabled_at,
    lastSeenAt: row.last_seen_at,
  }
}
