import { hash, verify } from '@node-rs/argon2'
import { permissionsOf, type Role } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import type { SignedIn } from '../http/bind.ts'

/** OWASP's least for argon2id: 19 MiB, two passes, one lane. */
const argon = { memoryCost: 19_456, timeCost: 2, parallelism: 1 }

interface PersonRow {
  id: number
  login: string
  name: string
  role: Role
  password_hash: string
  actor_id: number | null
}

export interface NewPerson {
  login: string
  name: string
  role: Role
  password: string
  /** The name under which this person's own changes are captured. */
  actorName?: string
}

export class People {
  readonly #db: Database
  #decoy: Promise<string> | undefined
  constructor(db: Database) {
    this.#db = db
  }

  async find(id: number): Promise<SignedIn | null> {
    const row = await this.#table().where({ id }).whereNull('disabled_at').first<PersonRow | undefined>()
    return row ? signedIn(row) : null
  }

  /** The person when login and password belong together; takes as long when the login does not exist. */
  async authenticate(login: string, password: string): Promise<SignedIn | null> {
    const row = await this.#table()
      .where({ login: login.trim().toLowerCase() })
      .whereNull('disabled_at')
      .first<PersonRow | undefined>()
    this.#decoy ??= hash('no such person', argon)
    const right = await verify(row?.password_hash ?? (await this.#decoy), password)
    return row && right ? signedIn(row) : null
  }

  async byLogin(login: string): Promise<SignedIn | null> {
    const row = await this.#table().where({ login }).first<PersonRow | undefined>()
    return row ? signedIn(row) : null
  }

  /** Adds a person, or leaves one with the same login as it is. */
  async add(person: NewPerson): Promise<void> {
    const login = person.login.trim().toLowerCase()
    if (await this.#table().where({ login }).first()) return
    const passwordHash = await hash(person.password, argon)
    const actorId = person.actorName ? await this.#actor(person.actorName) : null
    await this.#table()
      .insert({ login, name: person.name, role: person.role, password_hash: passwordHash, actor_id: actorId })
      .onConflict('login')
      .ignore()
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
    actorId: row.actor_id,
  }
}
