import { capitalised, spoken } from '@spoor/core'
import type { Knex } from 'knex'
import { connect, type Database } from '../database/knex.ts'
import type { Vault } from '../secret.ts'
import { discover, type DiscoveredTable } from './discover.ts'
import { plural, proposeLabel, typeName } from './names.ts'

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
    const own = decodeURIComponent(new URL(source.url).username)
    await this.#db('spoor.source_login')
      .insert({ source_id: id, login: own, may_declare: true, own: true })
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
    if (!row) throw new Error(`no source ${sourceId}`)
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
      await trx('spoor.record_type').where({ source_id: sourceId }).update({ present: false })
      for (const table of tables) await writeTable(trx, sourceId, table)
    })
    return tables
  }
}

async function writeTable(trx: Knex.Transaction, sourceId: number, table: DiscoveredTable): Promise<void> {
  const described = {
    relation_id: table.relationId,
    schema_name: table.schema,
    table_name: table.table,
    comment: table.comment,
    key_columns: JSON.stringify(table.keyColumns),
    obstacle: table.obstacle && JSON.stringify(table.obstacle),
    present: true,
  }
  const same = await trx('spoor.record_type')
    .where({ source_id: sourceId, relation_id: table.relationId })
    .first<{ id: number } | undefined>('id')
  // A table made anew under its old name (a restored database) goes on as the same type.
  const namesake =
    same ??
    (await trx('spoor.record_type')
      .where({ source_id: sourceId, schema_name: table.schema, table_name: table.table, present: false })
      .first<{ id: number } | undefined>('id'))
  let typeId = namesake?.id
  if (typeId !== undefined) await trx('spoor.record_type').where({ id: typeId }).update(described)
  else {
    const name = typeName(table.table)
    const [row] = await trx('spoor.record_type')
      .insert({
        ...described,
        source_id: sourceId,
        name,
        plural: plural(name),
        area: capitalised(spoken(table.schema)),
        label_columns: JSON.stringify(proposeLabel(table)),
      })
      .returning<{ id: number }[]>('id')
    typeId = row!.id
  }
  await writeFields(trx, typeId, table)
}

async function writeFields(trx: Knex.Transaction, typeId: number, table: DiscoveredTable): Promise<void> {
  await trx('spoor.field').where({ type_id: typeId }).update({ present: false })
  if (table.columns.length === 0) return
  await trx('spoor.field')
    .insert(
      table.columns.map((column) => ({
        type_id: typeId,
        attribute_number: column.attributeNumber,
        column_name: column.name,
        name: spoken(column.name),
        data_type: column.dataType,
        base_type: column.baseType,
        comment: column.comment,
        part_of_key: table.keyColumns.includes(column.name),
        generated: column.generated,
        present: true,
      })),
    )
    .onConflict(['type_id', 'attribute_number'])
    .merge(['column_name', 'name', 'data_type', 'base_type', 'comment', 'part_of_key', 'generated', 'present'])
}
