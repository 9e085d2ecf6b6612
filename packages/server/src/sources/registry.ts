import { connect, type Database } from '../database/knex.ts'
import type { Vault } from '../secret.ts'
import { Problem } from '../errors.ts'
import { discover, type DiscoveredTable } from './discover.ts'
import { writeRegister } from './register.ts'

export interface Source {
  id: number
  name: string
}

export interface NewSource {
  name: string
  url: string
  declaringLogins: readonly string[]
}

/** Which sources there are, and one pool of connections to each. */
export class Sources {
  readonly #db: Database
  readonly #vault: Vault
  readonly #open = new Map<number, Database>()
  constructor(db: Database, vault: Vault) {
    this.#db = db
    this.#vault = vault
  }

  async list(): Promise<Source[]> {
    return await this.#db('spoor.source').select('id', 'name').orderBy('id')
  }

  /** Adds a source or renews the address of the one with this name. */
  async add(source: NewSource): Promise<number> {
    const [row] = await this.#db('spoor.source')
      .insert({ name: source.name, url_sealed: this.#vault.seal(source.url) })
      .onConflict('name')
      .merge(['url_sealed'])
      .returning<{ id: number }[]>('id')
    const id = row!.id
    for (const login of source.declaringLogins)
      await this.#db('spoor.source_login')
        .insert({ source_id: id, login, may_declare: true })
        .onConflict(['source_id', 'login'])
        .merge(['may_declare'])
    await this.#db('spoor.source_login')
      .insert({ source_id: id, login: loginOf(source.url), may_declare: true, own: true })
      .onConflict(['source_id', 'login'])
      .merge(['may_declare', 'own'])
    await this.#db('spoor.plan_draft').insert({ source_id: id }).onConflict('source_id').ignore()
    await this.#db('ledger.collector_state').insert({ source_id: id }).onConflict('source_id').ignore()
    return id
  }

  /** Connections to a source; they are opened when first used. */
  async connection(sourceId: number): Promise<Database> {
    const known = this.#open.get(sourceId)
    if (known) return known
    const row = await this.#db('spoor.source')
      .where({ id: sourceId })
      .first<{ url_sealed: Buffer } | undefined>('url_sealed')
    if (!row) throw new Problem('not-found', 'There is no such source. Nothing was changed.')
    const raced = this.#open.get(sourceId)
    if (raced) return raced
    const opened = connect(this.#vault.unseal(row.url_sealed), { applicationName: 'spoor', maxConnections: 4 })
    this.#open.set(sourceId, opened)
    return opened
  }

  async close(): Promise<void> {
    await Promise.all([...this.#open.values()].map((db) => db.destroy()))
    this.#open.clear()
  }

  /** Looks at the source as it is now and writes down its types and fields; ids stay when things are renamed. */
  async refresh(sourceId: number): Promise<DiscoveredTable[]> {
    const tables = await discover(await this.connection(sourceId))
    await this.#db.transaction(async (trx) => {
      await trx('spoor.source').where({ id: sourceId }).forUpdate()
      await writeRegister(trx, sourceId, tables)
      await trx('spoor.source').where({ id: sourceId }).update({ looked_at: trx.fn.now() })
    })
    return tables
  }

  /** Renames a source, renews its address, and says which logins may declare who acts. */
  async change(
    sourceId: number,
    { name, url, declaringLogins }: { name: string; url?: string | undefined; declaringLogins: readonly string[] },
  ): Promise<void> {
    await this.#db.transaction(async (trx) => {
      await trx('spoor.source')
        .where({ id: sourceId })
        .update({ name, ...(url === undefined ? {} : { url_sealed: this.#vault.seal(url) }) })
      await trx('spoor.source_login').where({ source_id: sourceId, own: false }).delete()
      for (const login of declaringLogins)
        await trx('spoor.source_login')
          .insert({ source_id: sourceId, login, may_declare: true })
          .onConflict(['source_id', 'login'])
          .merge(['may_declare'])
      if (url === undefined) return
      await trx('spoor.source_login').where({ source_id: sourceId, own: true }).delete()
      await trx('spoor.source_login')
        .insert({ source_id: sourceId, login: loginOf(url), may_declare: true, own: true })
        .onConflict(['source_id', 'login'])
        .merge(['may_declare', 'own'])
    })
    if (url === undefined) return
    const before = this.#open.get(sourceId)
    this.#open.delete(sourceId)
    await before?.destroy()
  }

  /** The address of a source for the eye: without its password. */
  async address(sourceId: number): Promise<string> {
    const row = await this.#db('spoor.source').where({ id: sourceId }).first<{ url_sealed: Buffer }>('url_sealed')
    const url = new URL(this.#vault.unseal(row.url_sealed))
    url.password = ''
    url.search = ''
    return url.href
  }
}

function loginOf(url: string): string {
  return decodeURIComponent(new URL(url).username)
}
