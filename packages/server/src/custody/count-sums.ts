import { hash } from 'node:crypto'
import type { Client } from 'pg'
import { BinaryRows } from '../ledger/binary-rows.ts'

/** What is kept beside the saves and can be counted from them; each has up to two counts. */
export const countTables = ['field', 'actor', 'month', 'kind', 'run'] as const
export type CountTable = (typeof countTables)[number]

/** Words of 32 bits for one count of a table: two that differ have the same sum once in 2⁹⁶. */
const wordsEach = 3
const counts = 2
const perTable = wordsEach * counts

/**
 * Says whether counts are the same on two sides without keeping either: each count is multiplied with a number that
 * follows from what it is a count of and from a secret of this one check, and all are added up (modulo 2³²). Whoever
 * altered the ledger did not know the secret. What a sum of years takes is a few bytes.
 */
export class CountSums {
  readonly words = new Uint32Array(countTables.length * perTable)
  readonly #secret: string

  constructor(secret: string) {
    this.#secret = secret
  }

  add(table: CountTable, of: string, first: number, second = 0): void {
    // What does not fit 32 bits is part of what is counted, or it would not count at all.
    const above = (n: number) => Math.floor(n / 2 ** 32)
    const digits = hash('sha256', [this.#secret, table, of, above(first), above(second)].join(separator), 'hex')
    const at = countTables.indexOf(table) * perTable
    for (let word = 0; word < perTable; word++) {
      const factor = parseInt(digits.slice(word * 8, word * 8 + 8), 16)
      this.words[at + word] = this.words[at + word]! + Math.imul(word < wordsEach ? first : second, factor)
    }
  }

  take(words: Uint32Array): void {
    for (const [at, word] of words.entries()) this.words[at] = this.words[at]! + word
  }

  /** In which tables two sides differ. */
  differing(other: CountSums): CountTable[] {
    return countTables.filter((_, table) => {
      const [from, to] = [table * perTable, (table + 1) * perTable]
      return this.words.slice(from, to).join() !== other.words.slice(from, to).join()
    })
  }
}

/** No text of PostgreSQL's has it, so two keys are the same only if their parts are. */
const separator = '\u0000'

const microsPerHour = 3_600_000_000

interface Hour {
  fields: Map<number, number>
  actors: Map<string, { kind: string; saves: number; changes: number }>
}

/** Field and type in one number; there are never so many fields. */
const fieldRoom = 2 ** 26

/** Counts saves and changes as the hourly and monthly counts and the runs have them. Hours are microseconds since 2000. */
export class SliceCounts {
  readonly #hours = new Map<number, Hour>()
  readonly #runs = new Map<string, number>()
  #last = NaN
  #hour: Hour = { fields: new Map(), actors: new Map() }

  #of(atMicros: number): Hour {
    const begin = Math.floor(atMicros / microsPerHour) * microsPerHour
    if (begin === this.#last) return this.#hour
    this.#last = begin
    this.#hour = this.#hours.get(begin) ?? { fields: new Map(), actors: new Map() }
    this.#hours.set(begin, this.#hour)
    return this.#hour
  }

  change(atMicros: number, typeId: number, fieldId: number): void {
    const { fields } = this.#of(atMicros)
    const key = typeId * fieldRoom + fieldId
    fields.set(key, (fields.get(key) ?? 0) + 1)
  }

  save(
    atMicros: number,
    typeId: number,
    actorId: number,
    kind: string,
    channel: string,
    run: string | null,
    changes: number,
  ): void {
    const { actors } = this.#of(atMicros)
    const key = actorKey(typeId, actorId, kind, channel)
    const known = actors.get(key)
    if (known) {
      known.saves++
      known.changes += changes
    } else actors.set(key, { kind, saves: 1, changes })
    if (run !== null) this.#runs.set(run, (this.#runs.get(run) ?? 0) + 1)
  }

  addTo(sums: CountSums): void {
    for (const [hour, { fields, actors }] of this.#hours) {
      for (const [key, n] of fields) sums.add('field', fieldOf(hour, Math.floor(key / fieldRoom), key % fieldRoom), n)
      for (const [key, { kind, saves, changes }] of actors) {
        sums.add('actor', hour + separator + key, saves, changes)
        sums.add('month', monthOf(hour) + separator + key, saves, changes)
        // What a kind comes to is the sum of its actors, here as there.
        sums.add('kind', hour + separator + kind, saves, changes)
      }
    }
    for (const [run, n] of this.#runs) sums.add('run', run, n)
  }
}

const since2000Ms = Date.UTC(2000, 0, 1)

/** The month of UTC that an hour lies in, counted from the year 0. @param hour microseconds since 2000 */
function monthOf(hour: number): number {
  const day = new Date(since2000Ms + hour / 1000)
  return day.getUTCFullYear() * 12 + day.getUTCMonth()
}

function fieldOf(hour: number, typeId: number, fieldId: number): string {
  return [hour, typeId, fieldId].join(separator)
}

function actorKey(typeId: number, actorId: number, kind: string, channel: string): string {
  return [typeId, actorId, kind, channel].join(separator)
}

/** The counts that are stored, with the last save that is in them; from one moment. */
export async function storedCounts(client: Client, sums: CountSums): Promise<string> {
  await client.query('begin isolation level repeatable read read only')
  try {
    const { rows } = await client.query<{ last: string }>('select last_save_id::text as last from ledger.head')
    const each = async (query: string, columns: number, add: (row: BinaryRows) => void) => {
      const all = new BinaryRows(client, query, columns)
      while (!all.ended) {
        if (all.next()) add(all)
        else await all.arrive()
      }
    }
    await each('select hour, type_id, field_id, changes from ledger.hour_field', 4, (row) =>
      sums.add('field', fieldOf(row.number(0), row.int(1)!, row.int(2)!), row.number(3)),
    )
    await each('select hour, type_id, actor_id, actor_kind, channel, saves, changes from ledger.hour_actor', 7, (row) =>
      sums.add(
        'actor',
        row.number(0) + separator + actorKey(row.int(1)!, row.int(2)!, row.text(3)!, row.text(4)!),
        row.number(5),
        row.number(6),
      ),
    )
    const month = `(extract(year from month) * 12 + extract(month from month) - 1)::int4`
    await each(
      `select ${month}, type_id, actor_id, actor_kind, channel, saves, changes from ledger.month_actor`,
      7,
      (row) =>
        sums.add(
          'month',
          row.int(0)! + separator + actorKey(row.int(1)!, row.int(2)!, row.text(3)!, row.text(4)!),
          row.number(5),
          row.number(6),
        ),
    )
    await each('select hour, actor_kind, saves, changes from ledger.hour_kind', 4, (row) =>
      sums.add('kind', row.number(0) + separator + row.text(1)!, row.number(2), row.number(3)),
    )
    await each('select id, saves from ledger.run', 2, (row) => sums.add('run', row.long(0)!, row.number(1)))
    return rows[0]!.last
  } finally {
    await client.query('rollback')
  }
}
