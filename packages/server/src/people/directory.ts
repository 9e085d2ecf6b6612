import { parse } from 'csv-parse/sync'
import * as v from 'valibot'
import { actorKinds, isDate } from '@spoor/core'
import type { Database } from '../database/knex.ts'

const optionalText = v.optional(v.pipe(v.string(), v.trim(), v.transform((text) => (text === '' ? null : text))), '') // prettier-ignore
const optionalDate = v.pipe(optionalText, v.check((text) => text === null || isDate(text), 'is not a date (YYYY-MM-DD)')) // prettier-ignore

/** One line of a staff list. Further columns are left alone. */
const Line = v.object({
  name: v.pipe(v.string('is missing'), v.trim(), v.minLength(1, 'is empty'), v.maxLength(300, 'is too long')),
  kind: v.picklist(actorKinds, `is none of ${actorKinds.join(', ')}`),
  login: optionalText,
  unit: optionalText,
  joined: optionalDate,
  left: optionalDate,
})

export class DirectoryError extends Error {}

/**
 * Loads a staff list (CSV with a heading line: name, kind, login, unit, joined, left) into the directory, all or
 * nothing. Actors are told by kind and name; whoever is not on the list stays as they are.
 * @returns how many lines there were.
 * @throws DirectoryError naming each line and column that is wrong.
 */
export async function loadDirectory(db: Database, csv: string): Promise<number> {
  const lines = readLines(csv)
  const wrong: string[] = []
  const seen = new Map<string, number>()
  const rows = lines.flatMap((line, at) => {
    const parsed = v.safeParse(Line, line)
    if (!parsed.success) {
      wrong.push(
        ...parsed.issues.map((issue) => `line ${at + 2}: ${v.getDotPath(issue) ?? 'the line'} ${issue.message}`),
      )
      return []
    }
    const identity = `${parsed.output.kind}\n${parsed.output.name}`
    const before = seen.get(identity)
    if (before !== undefined) wrong.push(`line ${at + 2}: ${parsed.output.name} stands on line ${before} already`)
    seen.set(identity, at + 2)
    const { name, kind, login, unit, joined, left } = parsed.output
    return [{ name, kind, login, unit, joined_on: joined, left_on: left }]
  })
  if (wrong.length > 0)
    throw new DirectoryError(
      `The staff list was not loaded and the directory is as it was. ${wrong.slice(0, 20).join('; ')}${wrong.length > 20 ? `; and ${wrong.length - 20} more` : ''}.`,
    )
  await db.transaction(async (trx) => {
    for (let at = 0; at < rows.length; at += 500)
      await trx('spoor.actor')
        .insert(rows.slice(at, at + 500))
        .onConflict(['kind', 'name'])
        .merge(['login', 'unit', 'joined_on', 'left_on'])
  })
  return rows.length
}

function readLines(csv: string): unknown[] {
  try {
    return parse(csv, {
      columns: (names: string[]) => names.map((name) => name.trim().toLowerCase()),
      bom: true,
      skip_empty_lines: true,
    })
  } catch (error) {
    throw new DirectoryError(
      `The staff list was not loaded and the directory is as it was: ${(error as Error).message}.`,
    )
  }
}
