import { parse } from 'csv-parse/sync'
import * as v from 'valibot'
import type { DirectoryEntry, DirectoryOutcome } from '@spoor/contract'
import { actorKinds, dateText, isDate, type ActorKind } from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'

const optionalText = v.optional(
  v.pipe(
    v.string(),
    v.trim(),
    v.transform((text) => (text === '' ? null : text)),
  ),
  '',
)
const optionalDate = v.pipe(
  optionalText,
  v.check((text) => text === null || isDate(text), 'is not a date (YYYY-MM-DD)'),
)

/** One line of a staff list. Further columns are left alone. */
const Line = v.object({
  name: v.pipe(v.string('is missing'), v.trim(), v.minLength(1, 'is empty'), v.maxLength(300, 'is too long')),
  kind: v.picklist(actorKinds, `is none of ${actorKinds.join(', ')}`),
  login: optionalText,
  unit: optionalText,
  joined: optionalDate,
  left: optionalDate,
  /** By what the list knows somebody through a change of name. */
  id: optionalText,
})

/** Somebody on a staff list. */
export interface ListedActor {
  id: string | null
  name: string
  kind: ActorKind
  login: string | null
  unit: string | null
  /** Undefined when the list does not say; then what is known stays. */
  joinedOn: string | null | undefined
  leftOn: string | null | undefined
}

/** @throws Problem naming each line and column that is wrong. */
export function readStaffCsv(csv: string): ListedActor[] {
  const lines = readLines(csv)
  const wrong: string[] = []
  const seen = new Map<string, number>()
  const listed = lines.flatMap((line, at): ListedActor[] => {
    const parsed = v.safeParse(Line, line)
    if (!parsed.success) {
      wrong.push(
        ...parsed.issues.map((issue) => `line ${at + 2}: ${v.getDotPath(issue) ?? 'the line'} ${issue.message}`),
      )
      return []
    }
    const { name, kind, login, unit, joined, left, id } = parsed.output
    const before = seen.get(`${kind}\n${name}`)
    if (before !== undefined) wrong.push(`line ${at + 2}: ${name} stands on line ${before} already`)
    seen.set(`${kind}\n${name}`, at + 2)
    return [{ id, name, kind, login, unit, joinedOn: joined, leftOn: left }]
  })
  if (wrong.length > 0)
    throw unreadable(`${wrong.slice(0, 20).join('; ')}${wrong.length > 20 ? `; and ${wrong.length - 20} more` : ''}`)
  return listed
}

function readLines(csv: string): unknown[] {
  try {
    return parse(csv, {
      columns: (names: string[]) => names.map((name) => name.trim().toLowerCase()),
      bom: true,
      skip_empty_lines: true,
    })
  } catch (error) {
    throw unreadable((error as Error).message)
  }
}

function unreadable(why: string): Problem {
  return new Problem('directory-unreadable', `The staff list was not loaded and the directory is as it was. ${why}.`)
}

interface ActorRow {
  id: number
  kind: ActorKind
  name: string
  login: string | null
  unit: string | null
  joined_on: string | null
  left_on: string | null
  directory_id: string | null
  in_directory: boolean
}

class DryRunOver extends Error {}

/**
 * Takes a staff list into the directory, all or nothing. Somebody is known by the list's own number, else by login,
 * else by kind and name; a new name is a renaming, and saves made under the old one stay theirs. Whoever is not on the
 * list stays as they are and is named. With `dryRun` nothing is kept.
 */
export async function takeStaffList(
  db: Database,
  listed: readonly ListedActor[],
  { dryRun }: { dryRun: boolean },
): Promise<DirectoryOutcome> {
  const changes: DirectoryOutcome['changes'] = []
  try {
    await db.transaction(async (trx) => {
      const known = await trx('spoor.actor').select<ActorRow[]>(
        '*',
        trx.raw('joined_on::text as joined_on, left_on::text as left_on'),
      )
      const met = new Set<number>()
      for (const entry of listed) {
        const before = findKnown(known, entry)
        if (before) met.add(before.id)
        const change = before ? await update(trx, before, entry, known) : await insert(trx, entry)
        if (change) changes.push(change)
      }
      for (const actor of known.filter((one) => one.in_directory && one.left_on === null && !met.has(one.id)))
        changes.push({
          change: 'missing',
          name: actor.name,
          words: 'is in the directory and not on this list; stays as they are',
        })
      if (dryRun) throw new DryRunOver()
    })
  } catch (error) {
    if (!(error instanceof DryRunOver)) throw error
  }
  return { people: listed.length, changes, refused: [] }
}

function findKnown(known: readonly ActorRow[], entry: ListedActor): ActorRow | undefined {
  const sameKind = known.filter((actor) => actor.kind === entry.kind)
  return (
    (entry.id === null ? undefined : known.find((actor) => actor.directory_id === entry.id)) ??
    sameKind.find((actor) => actor.name === entry.name) ??
    (entry.login === null ? undefined : sameKind.find((actor) => actor.login === entry.login && actor.in_directory))
  )
}

const rowOf = (entry: ListedActor) => ({
  login: entry.login,
  unit: entry.unit,
  ...(entry.joinedOn === undefined ? {} : { joined_on: entry.joinedOn }),
  ...(entry.leftOn === undefined ? {} : { left_on: entry.leftOn }),
  in_directory: true,
  ...(entry.id === null ? {} : { directory_id: entry.id }),
})

type Change = DirectoryOutcome['changes'][number]

async function insert(trx: Knex.Transaction, entry: ListedActor): Promise<Change> {
  await trx('spoor.actor').insert({ kind: entry.kind, name: entry.name, ...rowOf(entry) })
  return { change: 'added', name: entry.name, words: [entry.kind, entry.unit].filter(Boolean).join(', ') }
}

async function update(
  trx: Knex.Transaction,
  before: ActorRow,
  entry: ListedActor,
  known: readonly ActorRow[],
): Promise<Change | null> {
  const namesake = known.find(
    (actor) => actor.id !== before.id && actor.kind === before.kind && actor.name === entry.name,
  )
  const renamed = before.name !== entry.name
  if (renamed && namesake) {
    // Saves came under the new name before the list did: that one goes on, and the old one is known as it.
    await trx('spoor.actor')
      .where({ id: before.id })
      .update({ same_as: namesake.id, in_directory: false, directory_id: null })
    await trx('spoor.actor').where({ id: namesake.id }).update(rowOf(entry))
    return { change: 'renamed', name: entry.name, words: `was ${before.name}; both names are one now` }
  }
  await trx('spoor.actor')
    .where({ id: before.id })
    .update({ name: entry.name, ...rowOf(entry) })
  if (renamed) {
    await trx('spoor.former_name')
      .insert({ kind: before.kind, name: before.name, actor_id: before.id })
      .onConflict(['kind', 'name'])
      .merge()
    return { change: 'renamed', name: entry.name, words: `was ${before.name}; their saves stay theirs` }
  }
  if (entry.leftOn && before.left_on === null)
    return { change: 'left', name: entry.name, words: `left on ${dateText(entry.leftOn)}` }
  const differences = [
    before.login === entry.login ? null : `login ${entry.login ?? 'none'}`,
    before.unit === entry.unit ? null : `works at ${entry.unit ?? 'nowhere'}`,
    entry.joinedOn === undefined || before.joined_on === entry.joinedOn
      ? null
      : `joined ${entry.joinedOn ?? 'on an unknown day'}`,
    entry.leftOn === undefined || before.left_on === entry.leftOn ? null : `left ${entry.leftOn ?? 'not'}`,
    before.in_directory ? null : 'is in the directory now',
  ].filter((words) => words !== null)
  return differences.length > 0 ? { change: 'changed', name: entry.name, words: differences.join(', ') } : null
}

/** Everybody known to make saves: the directory, and who was mapped by hand. */
export async function listDirectory(db: Database): Promise<DirectoryEntry[]> {
  const { rows } = await db.raw<{ rows: DirectoryEntry[] }>(
    `select a.id as "actorId", a.name, a.kind, a.login, a.unit, a.joined_on::text as "joinedOn", a.left_on::text as "leftOn",
            a.in_directory as "inDirectory",
            coalesce((select json_agg(n.name order by n.until_at desc) from (
               select name, until_at from spoor.former_name f where f.actor_id = a.id
               union all select o.name, null from spoor.actor o where o.same_as = a.id) n), '[]') as "formerNames"
       from spoor.actor a
      where a.same_as is null and (a.in_directory or exists (select from spoor.identity i where i.actor_id = a.id or i.for_actor_id = a.id))
      order by a.left_on is not null, a.name`,
  )
  return rows
}
