import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { errorCode } from '../errors.ts'

/** One row of the outbox as text; nothing of it has been believed yet. */
export interface OutboxRow {
  seq: string
  captured_at: string
  transaction_id: string
  type_id: number
  plan_version: number
  action: string
  key: string
  key_before: string | null
  parent_key: string | null
  label: string
  /** What it is made of, as JSON, where part of it is what another record is called. */
  label_of: string | null
  delta: string
  context: string | null
  login: string
  application_name: string | null
  client_address: string | null
  /** Who wrote it if not the capture. */
  forged_by: string | null
}

/** The columns of {@link OutboxRow} as the table has them, as text where JavaScript's numbers would not do. */
const outboxColumns =
  'seq::text, captured_at, transaction_id::text, type_id, plan_version, action, key, key_before, parent_key, label, label_of, delta, context, login, application_name, client_address'

/** Captures from before there were these columns have none: then the names mean what stands outside. */
const columnsOnce = `(select null::name as written_by, null::text as label_of) as once`

/** What the transaction itself has captured so far. */
export async function readOwnOutbox(trx: Knex.Transaction): Promise<OutboxRow[]> {
  return await plainQuery<OutboxRow>(
    trx,
    `select own.* from ${columnsOnce} cross join lateral (
       select ${outboxColumns}, null as forged_by
         from spoor_capture.outbox o where transaction_id = pg_current_xact_id() order by o.seq) as own`,
  )
}

/** How the source stands just before its outbox is read. */
export interface OutboxHead {
  /** Made anew whenever the capture is installed where it was not. */
  epoch: string
  /** Which Spoor the capture belongs to; null for one that was installed before this was written down. */
  installation: string | null
  /** The highest number drawn so far. */
  lastSeq: bigint
}

/** @returns null when nothing was ever installed in the source. */
export async function readHead(source: Database): Promise<OutboxHead | null> {
  try {
    const { rows } = await source.raw<{ rows: { epoch: string; installation: string | null; last_seq: string }[] }>(
      `select (select value from spoor_capture.meta where name = 'epoch') as epoch,
              (select value from spoor_capture.meta where name = 'installation') as installation,
              (select case when is_called then last_value else 0 end from spoor_capture.outbox_seq_seq)::text as last_seq`,
    )
    const row = rows[0]!
    return { epoch: row.epoch, installation: row.installation, lastSeq: BigInt(row.last_seq) }
  } catch (error) {
    if (errorCode(error) === '42P01' || errorCode(error) === '3F000') return null
    throw error
  }
}

export async function readLastSeq(source: Database): Promise<bigint> {
  return (await readHead(source))?.lastSeq ?? 0n
}

/** All transactions that have written something and have not ended, prepared ones included: each locks its own number. */
export async function runningTransactions(source: Database): Promise<ReadonlySet<string>> {
  const { rows } = await source.raw<{ rows: { transaction: string }[] }>(
    `select distinct transactionid::text as transaction from pg_locks where locktype = 'transactionid' and granted and mode = 'ExclusiveLock'`,
  )
  return new Set(rows.map((row) => row.transaction))
}

export interface ReadLimits {
  afterSeq: bigint
  maxRows: number
  /** Of values; at least one row comes whatever its size. */
  maxBytes: number
}

/**
 * Committed rows in capture order. Rows of transactions still running are not visible and come in a later read:
 * what is taken is remembered by its number, not by "everything below", so none can be skipped.
 */
export async function readOutbox(source: Database, { afterSeq, maxRows, maxBytes }: ReadLimits): Promise<OutboxRow[]> {
  const { rows } = await source.raw<{ rows: OutboxRow[] }>(
    `select ${outboxColumns}, forged_by
       from (select earliest.*, sum(octet_length(delta)) over (order by seq rows unbounded preceding) - octet_length(delta) as before
               from ${columnsOnce}
              cross join (select pg_get_userbyid(relowner) as owner from pg_class where oid = 'spoor_capture.outbox'::regclass) as owned
              cross join lateral (
                select ${outboxColumns.replace('seq::text', 'o.seq')}, nullif(written_by, owner) as forged_by from spoor_capture.outbox o where o.seq > ? order by o.seq limit ?) as earliest) as measured
      where before < ?
      -- By the number: the name alone would mean the text that is returned.
      order by measured.seq`,
    [afterSeq.toString(), maxRows, maxBytes],
  )
  return rows
}

export async function emptyOutbox(source: Database, seqs: readonly string[]): Promise<void> {
  if (seqs.length === 0) return
  await source.raw('delete from spoor_capture.outbox where seq = any(?::bigint[])', [boundArray(seqs)])
}

export interface Meddling {
  deed: string
  login: string
  times: number
  last: string
}

export interface Traces {
  meddling: Meddling[]
  /** How many traces were ever begun. Each is a number that is never given twice, also where it was taken back. */
  begun: number
  /** The numbers of those that are there. */
  ids: string[]
}

/**
 * What others did to captured rows, as far as its traces are there. They stay until {@link forget} takes them away.
 * @param known how many had been begun when it was looked at last
 */
export async function readTraces(source: Database, known: number): Promise<Traces> {
  const { rows: counter } = await source.raw<{ rows: { begun: string }[] }>(
    `select case when is_called then last_value else 0 end as begun from spoor_capture.meddling_id_seq`,
  )
  const begun = Number(counter[0]!.begun)
  // A trace that is left in between is not counted yet; it is told when it is.
  const { rows } = await source.raw<{
    rows: { deed: string; login: string; times: string; last: string; ids: string[] }[]
  }>(
    `select deed, login, count(*) as times, max(at) as last, array_agg(id::text) as ids
       from spoor_capture.meddling where id <= ? group by deed, login`,
    [Math.max(begun, known)],
  )
  return {
    meddling: rows.map(({ deed, login, times, last }) => ({ deed, login, times: Number(times), last })),
    begun,
    ids: rows.flatMap((row) => row.ids),
  }
}

/** Takes away what was written down in Spoor. */
export async function forget(source: Database, table: 'meddling' | 'missed', ids: readonly string[]): Promise<void> {
  if (ids.length > 0)
    await source.raw(`delete from spoor_capture.${table} where id = any(?::bigint[])`, [boundArray(ids)])
}

/** Saves of a record type that were let through although they could not be captured. */
export interface Missed {
  typeId: number
  saves: number
  first: string
  last: string
  /** What the source said of the newest. */
  words: string
  /** The numbers under which it is noted. */
  ids: string[]
}

/** What went by and was not told yet; it stays until {@link forget} takes it away. */
export async function readMissed(source: Database): Promise<Missed[]> {
  // A capture that was put in force before there was such a thing has none.
  const { rows: made } = await source.raw<{ rows: { there: boolean }[] }>(
    `select to_regclass('spoor_capture.missed') is not null as there`,
  )
  if (!made[0]?.there) return []
  const { rows } = await source.raw<{
    rows: { type_id: number; saves: string; first: string; last: string; words: string; ids: string[] }[]
  }>(
    `select type_id, count(*) as saves, min(at) as first, max(at) as last, (array_agg(deed || ' of ' || relation || ': ' || words order by id desc))[1] as words,
            array_agg(id::text) as ids
       from spoor_capture.missed group by type_id`,
  )
  return rows.map(({ type_id, saves, ...rest }) => ({ typeId: type_id, saves: Number(saves), ...rest }))
}
