import { fetched, innerHash, rootOf, type Asking, type NodeAddress } from '@spoor/core'
import type { Knex } from 'knex'
import { sha256 } from '../ledger/sha256.ts'

/** Nodes are kept for every eighth height; what lies between follows from at most 255 of them. */
const step = 8
const fanOut = 2 ** step
/** So many groups are read at once when the tree grows. */
const groupsAtOnce = 16
const leafBytes = 32
/** Groups of 256 that are remembered at once, and nodes between the stored heights: some megabytes each. */
const mostBlocks = 500
const mostBetween = 20_000

/** With which save the tree begins, and how many saves there are from it on. */
export async function extentOf(db: Knex): Promise<{ first: bigint; size: number }> {
  const { rows } = await db.raw<{ rows: { first: string; size: string }[] }>(
    'select f.first_save_id as first, h.last_save_id - f.first_save_id + 1 as size from ledger.head h, ledger.sealing f',
  )
  return { first: BigInt(rows[0]!.first), size: Number(rows[0]!.size) }
}

export interface StoredNode {
  height: number
  place: number
  hash: Uint8Array
}

/** The hash over neighbours whose number is a power of two. */
export function fold(hashes: readonly Uint8Array[]): Uint8Array {
  let row = hashes
  while (row.length > 1) row = row.flatMap((hash, at) => (at % 2 === 0 ? [innerHash(sha256, hash, row[at + 1]!)] : []))
  return row[0]!
}

/** The ledger's tree, read from stored leaves and nodes. Leaf 0 is the save with which sealing began. */
export class Tree {
  readonly #db: Knex
  readonly #firstSaveId: bigint
  /** Nodes made now and not stored yet, by height and place. */
  readonly #made = new Map<string, Uint8Array>()
  #blocks: Map<string, Uint8Array[]> | null = null
  #between: Map<string, Uint8Array> | null = null

  constructor(db: Knex, firstSaveId: bigint) {
    this.#db = db
    this.#firstSaveId = firstSaveId
  }

  /** @throws MissingLeaf */
  async leaves(from: number, to: number): Promise<Uint8Array[]> {
    const idOf = (at: number) => (this.#firstSaveId + BigInt(at)).toString()
    // One value for all of them: a row for each costs more than its hash.
    const { rows } = await this.#db.raw<{ rows: { leaves: Buffer | null; whole: boolean }[] }>(
      `select string_agg(leaf, ''::bytea order by id) as leaves, count(leaf) = ? and count(distinct id) = ? and bool_and(octet_length(leaf) = ${leafBytes}) as whole
         from ledger.save where id >= ? and id < ?`,
      [to - from, to - from, idOf(from), idOf(to)],
    )
    const { leaves, whole } = rows[0]!
    if (to === from) return []
    if (!whole || !leaves) throw new MissingLeaf(await this.#firstWithoutLeaf(from, to))
    return Array.from(
      { length: to - from },
      (_, at) => new Uint8Array(leaves.subarray(at * leafBytes, (at + 1) * leafBytes)),
    )
  }

  async #firstWithoutLeaf(from: number, to: number): Promise<string> {
    const { rows } = await this.#db.raw<{ rows: { id: string }[] }>(
      `select g.id from generate_series(?::bigint, ?::bigint - 1) g(id)
        where (select count(*) from ledger.save s where s.id = g.id and octet_length(s.leaf) = ${leafBytes}) <> 1 order by g.id limit 1`,
      [(this.#firstSaveId + BigInt(from)).toString(), (this.#firstSaveId + BigInt(to)).toString()],
    )
    return rows[0]?.id ?? (this.#firstSaveId + BigInt(from)).toString()
  }

  async #nodes(height: number, from: number, to: number): Promise<Uint8Array[]> {
    if (height === 0) return await this.leaves(from, to)
    const rows = await this.#db('ledger.node')
      .where({ height })
      .where('place', '>=', from)
      .where('place', '<', to)
      .select<{ place: string; hash: Buffer }[]>('place', 'hash')
    const stored = new Map(rows.map((row) => [Number(row.place), new Uint8Array(row.hash)]))
    return Array.from({ length: to - from }, (_, at) => {
      const hash = this.#made.get(`${height} ${from + at}`) ?? stored.get(from + at)
      if (!hash) throw new MissingNode(height, from + at)
      return hash
    })
  }

  /** Keeps what was read, for many proofs from one tree; what is sealed does not change. */
  remembering(): this {
    this.#blocks = new Map()
    this.#between = new Map()
    return this
  }

  /** The hashes of a whole group of neighbours, read once. */
  async #group(height: number, group: number): Promise<Uint8Array[]> {
    const key = `${height} ${group}`
    const known = this.#blocks?.get(key)
    if (known) return known
    const read = await this.#nodes(height, group * fanOut, (group + 1) * fanOut)
    if (this.#blocks!.size >= mostBlocks) this.#blocks!.clear()
    this.#blocks!.set(key, read)
    return read
  }

  nodeAt = async ({ level, index }: NodeAddress): Promise<Uint8Array> => {
    // Proofs of neighbours share all but a few nodes, and one high up is folded from many.
    const key = `${level} ${index}`
    const known = this.#between?.get(key)
    if (known) return known
    const node = await this.#readNode(level, index)
    if (this.#between && this.#between.size >= mostBetween) this.#between.clear()
    this.#between?.set(key, node)
    return node
  }

  async #readNode(level: number, index: number): Promise<Uint8Array> {
    const height = Math.floor(level / step) * step
    const width = 2 ** (level - height)
    const [from, to] = [index * width, (index + 1) * width]
    const group = Math.floor(from / fanOut)
    if (this.#blocks && (await this.#isWhole(height, group)))
      return fold((await this.#group(height, group)).slice(from - group * fanOut, to - group * fanOut))
    return fold(await this.#nodes(height, from, to))
  }

  /** Whether a group of neighbours is full: then there is a node over it. */
  async #isWhole(height: number, group: number): Promise<boolean> {
    const key = `${height} ${group}`
    if (this.#blocks!.has(key)) return true
    return (
      (await this.#db('ledger.node')
        .where({ height: height + step, place: group })
        .first('place')) !== undefined
    )
  }

  ask<T>(asking: Asking<T>): Promise<T> {
    return fetched(asking, this.nodeAt)
  }

  root(size: number): Promise<Uint8Array> {
    return this.ask(rootOf(sha256, size))
  }

  /** The nodes that are whole once the tree has grown from one size to another; they are known to this tree from now on. */
  async grow(from: number, to: number): Promise<StoredNode[]> {
    const grown: StoredNode[] = []
    for (let height = step; ; height += step) {
      const span = 2 ** height
      const [first, end] = [Math.floor(from / span), Math.floor(to / span)]
      if (Math.floor(to / span) === 0) return grown
      for (let begin = first; begin < end; begin += groupsAtOnce) {
        const stop = Math.min(end, begin + groupsAtOnce)
        const below = await this.#nodes(height - step, begin * fanOut, stop * fanOut)
        for (let place = begin; place < stop; place++) {
          const hash = fold(below.slice((place - begin) * fanOut, (place - begin + 1) * fanOut))
          this.#made.set(`${height} ${place}`, hash)
          grown.push({ height, place, hash })
        }
      }
    }
  }
}

export class MissingLeaf extends Error {
  readonly saveId: string
  constructor(saveId: string) {
    super(`save ${saveId} is not in the ledger, or has no leaf`)
    this.saveId = saveId
  }
}

export class MissingNode extends Error {
  constructor(height: number, place: number) {
    super(`node ${place} of height ${height} is not in the ledger`)
  }
}
