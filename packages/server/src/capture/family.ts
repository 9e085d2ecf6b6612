import type { TrackingPlan } from '@spoor/core'
import type { Knex } from 'knex'
import { quoteIdentifier as id } from '../database/identifier.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { triggerPrefix } from './table.ts'

/** A table with those below it, partitions or what inherits from it, and those that it inherits from. */
export interface Family {
  typeId: number
  relationId: number
  /** Whether the table itself is still in the source. */
  there: boolean
  members: ReadonlyMap<number, { schema: string; table: string; leaf: boolean }>
}

/** The families of a plan's record types as the source has them at this moment. */
export async function readFamilies(db: Database, source: Database, plan: TrackingPlan): Promise<Family[]> {
  const types = await db('spoor.record_type')
    .whereIn('id', Object.keys(plan.types).map(Number))
    .select<{ id: number; relation_id: string }[]>('id', 'relation_id')
  const { rows } = await source.raw<{
    rows: { root: string; relation_id: string; schema: string; name: string; leaf: boolean }[]
  }>(
    `with recursive below (root, id) as (
       select c.oid, c.oid from pg_class c where c.oid = any (?::text[]::oid[])
       union select b.root, i.inhrelid from pg_inherits i join below b on i.inhparent = b.id),
     above (root, id) as (
       select i.inhrelid, i.inhparent from pg_inherits i join pg_class c on c.oid = i.inhrelid where c.oid = any (?::text[]::oid[])
       union select a.root, i.inhparent from pg_inherits i join above a on i.inhrelid = a.id)
     select b.root::int8::text as root, c.oid::int8::text as relation_id, n.nspname as schema, c.relname as name, c.relkind = 'r' and not b.up as leaf
       from (select root, id, false as up from below union all select root, id, true from above) b join pg_class c on c.oid = b.id join pg_namespace n on n.oid = c.relnamespace`,
    [types, types].map((some) => boundArray(some.map((type) => type.relation_id))),
  )
  return types.map((type) => {
    const members = rows.filter((row) => row.root === type.relation_id)
    return {
      typeId: type.id,
      relationId: Number(type.relation_id),
      there: members.some((row) => row.relation_id === type.relation_id),
      members: new Map(
        members.map((row) => [Number(row.relation_id), { schema: row.schema, table: row.name, leaf: row.leaf }]),
      ),
    }
  })
}

/** Partitions that came to a record type or left it since the triggers were put in. */
export interface Movements {
  came: { typeId: number; schema: string; table: string }[]
  left: { typeId: number; relationId: number }[]
}

export function movementsOf(
  families: readonly Family[],
  installed: readonly { typeId: number; relationId: number }[],
): Movements {
  const known = new Map<number, Set<number>>()
  for (const { typeId, relationId } of installed) known.set(typeId, (known.get(typeId) ?? new Set()).add(relationId))
  return {
    came: families.flatMap(({ typeId, relationId, members }) =>
      [...members]
        .filter(
          ([member, { leaf }]) => leaf && member !== relationId && known.has(typeId) && !known.get(typeId)!.has(member),
        )
        .map(([, { schema, table }]) => ({ typeId, schema, table })),
    ),
    left: families
      .filter((family) => family.there)
      .flatMap(({ typeId, members }) =>
        [...(known.get(typeId) ?? [])].filter((one) => !members.has(one)).map((relationId) => ({ typeId, relationId })),
      ),
  }
}

const mostAsked = 1000

/**
 * How many of a partition's rows no save has created: a partition that was filled before it was attached brings them.
 * Asked of the first thousand. `keyColumns` are those of the record type.
 */
export async function rowsWithoutSave(
  db: Database,
  source: Database,
  partition: { typeId: number; schema: string; table: string },
  keyColumns: readonly string[],
): Promise<number> {
  const texts = keyColumns.map((name) => `format('%s', x.${id(name)})`).join(', ')
  const rows = await source.transaction((trx) =>
    plainQuery<{ key: string; waiting: boolean }>(
      trx,
      `select key, exists (select from spoor_capture.outbox o where o.type_id = ${partition.typeId} and o.key::jsonb = asked.key::jsonb) as waiting
         from (select json_build_array(${texts})::text as key from ${id(partition.schema)}.${id(partition.table)} x limit ${mostAsked}) asked`,
    ),
  )
  const { rows: known } = await db.raw<{ rows: { key: string }[] }>(
    `select record_key as key from spoor.record where type_id = ? and record_key = any (?::text[])`,
    [partition.typeId, boundArray(rows.map((row) => JSON.stringify(JSON.parse(row.key))))],
  )
  const met = new Set(known.map((row) => row.key))
  return rows.filter((row) => !row.waiting && !met.has(JSON.stringify(JSON.parse(row.key)))).length
}

/** Takes the triggers off a table that is not of its record type any more, where it still stands. */
export async function takeOff(source: Knex, typeId: number, relationId: number): Promise<void> {
  const { rows } = await source.raw<{ rows: { name: string; on: string }[] }>(
    `select t.tgname as name, t.tgrelid::regclass::text as on from pg_trigger t
      where t.tgrelid = ?::text::oid and t.tgname ~ ? and not t.tgisinternal`,
    [String(relationId), `^!?${triggerPrefix(typeId)}`],
  )
  for (const row of rows) await source.raw(`drop trigger if exists ${id(row.name)} on ${row.on}`)
}
