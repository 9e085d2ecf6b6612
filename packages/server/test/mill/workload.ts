import pg from 'pg'
import { quoteIdentifier as id } from '../../src/database/identifier.ts'
import type { Chance } from './chance.ts'
import type { Column, DrawnSchema, Table } from './schema.ts'
import { keyLiteral, literal } from './values.ts'

/**
 * What a business may answer to a statement that was drawn blindly: keys that clash, rules that say no, rows that move
 * under a trigger, others that wait. Anything else is not its own.
 */
const itsOwn = /^(23|40|55P03|27000|21000|22|P0001|42P10|428C9|55006|SPR02)/

/** Statements of a session, drawn one after another. */
export class Workload {
  readonly #chance: Chance
  readonly #schema: DrawnSchema
  readonly #name: string
  readonly refused = new Map<string, number>()
  done = 0

  constructor(chance: Chance, schema: DrawnSchema, name: string) {
    this.#chance = chance
    // Under a key that is checked only at commit two transactions can hold the same key; only one session writes there,
    // since which of both came first is told by capture order alone where they fall apart (decision 23).
    this.#schema = {
      ...schema,
      tables: schema.tables.filter((table) => table.deferrable !== 'transaction' || name === 'w0'),
    }
    this.#name = name
  }

  async run(url: string, transactions: number): Promise<void> {
    const client = new pg.Client({ connectionString: url })
    await client.connect()
    await client.query(`set lock_timeout = '300ms'; set search_path = public`)
    if (this.#chance.yes(0.3))
      await client.query(
        `set plpgsql.extra_errors = 'all'; set standard_conforming_strings = off; set datestyle = 'German'; set intervalstyle = 'iso_8601'; set timezone = 'Asia/Kolkata'; set bytea_output = 'escape'; set extra_float_digits = 0; set search_path = public, pg_catalog`,
      )
    try {
      for (let at = 0; at < transactions; at++) await this.#transaction(client, at)
    } finally {
      await client.end()
    }
  }

  async #transaction(client: pg.Client, at: number): Promise<void> {
    const chance = this.#chance
    await client.query('begin')
    const statements = chance.one([1, 1, 2, 3, 6])
    for (let n = 0; n < statements; n++) {
      await client.query('savepoint one')
      for (const sql of this.#statement()) {
        try {
          await client.query(sql)
          this.done++
        } catch (error) {
          this.#refuse(error, sql)
          await client.query('rollback to savepoint one')
          break
        }
      }
      if (chance.yes(0.1)) await client.query('rollback to savepoint one')
      await client.query('release savepoint one')
    }
    try {
      if (chance.yes(0.12)) await client.query('rollback')
      else if (chance.yes(0.05)) {
        await client.query(`prepare transaction '${this.#name} ${at}'`)
        await client.query(`commit prepared '${this.#name} ${at}'`)
      } else await client.query('commit')
    } catch (error) {
      this.#refuse(error, 'commit')
      await client.query('rollback')
    }
  }

  #refuse(error: unknown, sql: string): void {
    const { code = '', message, where = '' } = error as { code?: string; message: string; where?: string }
    // Nothing that the business is used to comes from within the capture.
    const captures = where.includes('spoor_capture') && code !== 'SPR02'
    if (captures || (!itsOwn.test(code) && !/^cannot truncate/.test(message)))
      throw new Error(`${code} ${message}\nfrom: ${sql.slice(0, 2000)}`, { cause: error })
    this.refused.set(code, (this.refused.get(code) ?? 0) + 1)
  }

  #statement(): string[] {
    const chance = this.#chance
    const table = chance.one(this.#schema.tables)
    const on = `public.${id(table.name)}`
    const draws: (() => string[])[] = [
      () => [this.#insert(table, on, 1 + chance.whole(3))],
      () => [this.#insert(table, on, 1)],
      () => [`${this.#insert(table, on, 2)}${this.#conflict(table)}`],
      () => [this.#update(table, on, this.#one(table))],
      () => [this.#update(table, on, this.#one(table))],
      () => [this.#update(table, on, this.#firstKey(table))],
      () => [this.#update(table, on, 'true')],
      () => [this.#move(table, on)],
      () => [this.#move(table, on)],
      () => this.#exchange(table, on),
      () => [this.#shift(table, on)],
      () => [`delete from ${on} where ${this.#one(table)}`],
      () => [`delete from ${on} where ${this.#firstKey(table)}`],
      () => this.#again(table, on),
      () => [this.#merge(table, on)],
      () => (chance.yes(0.1) ? [`truncate ${on}`] : [this.#insert(table, on, 3)]),
      () => this.#direct(table),
    ]
    return chance
      .one(draws)()
      .filter((sql) => sql !== '')
  }

  #settable(table: Table): Column[] {
    return table.columns.filter((column) => !column.generated)
  }

  /** Some columns with values; of a wide table a few. */
  #insert(table: Table, on: string, rows: number): string {
    const settable = this.#settable(table)
    const drawn = new Set(settable.length > 0 ? this.#chance.some(settable, 6) : [])
    const columns = settable.filter((column) => column.required || drawn.has(column))
    const names = [...table.key, ...columns].map((column) => id(column.name)).join(', ')
    const row = () =>
      `(${[...table.key.map(({ type }) => keyLiteral(this.#chance, type)), ...columns.map(({ type, required }) => literal(this.#chance, type, !required))].join(', ')})`
    return `insert into ${on} (${names}) values ${Array.from({ length: rows }, row).join(', ')}`
  }

  #conflict(table: Table): string {
    if (table.deferrable !== 'no') return ''
    const [column] = this.#settable(table)
    const key = table.key.map(({ name }) => id(name)).join(', ')
    if (!column) return ' on conflict do nothing'
    return ` on conflict (${key}) do update set ${id(column.name)} = ${literal(this.#chance, column.type, true)}`
  }

  #one(table: Table): string {
    return table.key.map((column) => `${id(column.name)} = ${keyLiteral(this.#chance, column.type)}`).join(' and ')
  }

  #firstKey(table: Table): string {
    return `${id(table.key[0]!.name)} = ${keyLiteral(this.#chance, table.key[0]!.type)}`
  }

  #update(table: Table, on: string, where: string): string {
    const settable = this.#settable(table)
    if (settable.length === 0) return ''
    const sets = this.#chance
      .some(settable, 4)
      .map((column) => `${id(column.name)} = ${literal(this.#chance, column.type, true)}`)
    return `update ${on} set ${sets.join(', ')} where ${where}`
  }

  /** One row, or several, to another key; the equal key with another text among them. */
  #move(table: Table, on: string): string {
    const column = this.#chance.one(table.key)
    return `update ${on} set ${id(column.name)} = ${keyLiteral(this.#chance, column.type)} where ${this.#chance.yes(0.7) ? this.#one(table) : this.#firstKey(table)}`
  }

  /** Two rows change places by way of a third, as a list is put in another order. */
  #exchange(table: Table, on: string): string[] {
    const [column] = table.key
    if (!column || !['integer', 'bigint', 'numeric'].includes(column.type)) return ['']
    const name = id(column.name)
    const [a, b, away] = [this.#chance.whole(9), this.#chance.whole(9), -100 - this.#chance.whole(50)]
    return [
      [a, away],
      [b, a],
      [away, b],
    ].map(([from, to]) => `update ${on} set ${name} = ${to} where ${name} = ${from}`)
  }

  /** All rows a place on, or two of them exchanged, in one statement. */
  #shift(table: Table, on: string): string {
    const [column] = table.key
    if (!column || !['integer', 'bigint', 'numeric'].includes(column.type)) return ''
    const name = id(column.name)
    return this.#chance.yes(0.7)
      ? `update ${on} set ${name} = ${name} + ${this.#chance.one([1, -1])}`
      : `update ${on} set ${name} = 9 - ${name} where ${name} in (${this.#chance.whole(9)}, ${this.#chance.whole(9)}, 3, 6)`
  }

  /** A row removed and made anew, in one statement or two. */
  #again(table: Table, on: string): string[] {
    const key = table.key.map((column) => id(column.name)).join(', ')
    if (this.#chance.yes(0.5))
      return [
        `with gone as (delete from ${on} where ${this.#firstKey(table)} returning ${key}) insert into ${on} (${key}) select ${key} from gone`,
      ]
    return [`delete from ${on} where ${this.#firstKey(table)}`, this.#insert(table, on, 1)]
  }

  #merge(table: Table, on: string): string {
    const settable = this.#settable(table)
    if (settable.length === 0) return ''
    const column = this.#chance.one(settable)
    const keys = table.key.map((one, at) => `${keyLiteral(this.#chance, one.type)} as k${at}`).join(', ')
    const match = table.key.map((one, at) => `t.${id(one.name)} = s.k${at}`).join(' and ')
    const deletes = this.#chance.yes(0.3)
      ? 'when matched and s.k0 is not null then delete'
      : `when matched then update set ${id(column.name)} = ${literal(this.#chance, column.type, true)}`
    return `merge into ${on} t using (select ${keys}) s on ${match} ${deletes}
      when not matched then insert (${table.key.map((one) => id(one.name)).join(', ')}) values (${table.key.map((_, at) => `s.k${at}`).join(', ')})`
  }

  /** Rows written straight into a partition, or into a parent that holds them too. */
  #direct(table: Table): string[] {
    const part = table.partitions.length > 0 ? this.#chance.one(table.partitions) : table.parent
    if (!part) return [this.#update(table, `public.${id(table.name)}`, this.#firstKey(table))]
    const on = `public.${id(part)}`
    if (table.parent && this.#chance.yes(0.3)) return [`delete from ${on} where ${this.#firstKey(table)}`]
    return [
      this.#update(table.parent ? { ...table, columns: table.columns.slice(0, -1) } : table, on, this.#firstKey(table)),
    ]
  }
}
