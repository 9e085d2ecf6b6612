import { createHash } from 'node:crypto'
import { setTimeout as sleep } from 'node:timers/promises'
import { listed } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { quoteLiteral } from '../database/identifier.ts'
import { errorCode, Problem } from '../errors.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { baseSql, ensureBase } from './base.ts'
import { captureSql } from './generate.ts'
import { forgetGuardsSql } from './guards.ts'
import { uninstallSql } from './triggers.ts'
import { tryOut } from './try-out.ts'
import type { CapturedTable, TriggerPlaces } from './table.ts'

export interface Installation {
  planVersion: number
  /** Which Spoor it belongs to. */
  owner: string
  install: readonly CapturedTable[]
  /** Types tracked by the plan before and no longer. */
  remove: readonly TriggerPlaces[]
}

/** Told before each step of an installation; may stop it by throwing. */
export interface InstallationWatch {
  step(doing: string, done: number, of: number): Promise<void>
  /** Told what could not be tried although it is installed, in words. */
  untried?(words: string): Promise<void>
}

interface Step {
  doing: string
  sql: string
}

function steps({ planVersion, owner, install, remove }: Installation): Step[] {
  return [
    { doing: 'making the outbox', sql: baseSql },
    ...remove.map((table) => ({ doing: `taking the capture off ${table.table}`, sql: uninstallSql(table) })),
    ...install.map((table) => ({ doing: `capturing ${table.table}`, sql: captureSql(table, planVersion) })),
    {
      doing: 'taking off what guards have left',
      sql: forgetGuardsSql(install.flatMap(({ guards }) => guards.map(({ guardId }) => guardId))),
    },
    {
      doing: 'writing the plan’s number down',
      sql: `insert into spoor_capture.meta (name, value) values ('plan_version', ${quoteLiteral(String(planVersion))})
on conflict (name) do update set value = excluded.value;
insert into spoor_capture.meta (name, value) values ('installation', ${quoteLiteral(owner)}) on conflict (name) do nothing;\n`,
    },
  ]
}

/** Everything an installation runs in the source, in order; the same for the same plan. */
export function installationSql(installation: Installation): string {
  return steps(installation)
    .map((step) => step.sql)
    .join('\n')
}

const tries = 6
/** A waiting lock request makes the business queue behind it, so it waits shortly and comes again. */
const lockTimeoutMs = 800

/**
 * Runs an installation as one transaction. When it fails the source is as before.
 * @returns when the triggers were surely in force, by the source's clock.
 * @throws Problem when the source refuses, is busy or cannot be reached.
 */
export async function installCapture(
  source: Database,
  installation: Installation,
  watch: InstallationWatch = { step: () => Promise.resolve() },
): Promise<string> {
  const all = steps(installation)
  const untried = new Set(installation.install)
  let doing = ''
  const watched: InstallationWatch = {
    ...(watch.untried ? { untried: (words) => watch.untried!(words) } : {}),
    step: async (what, done, of) => {
      doing = what
      await watch.step(what, done, of)
    },
  }
  for (let attempt = 1; ; attempt++) {
    try {
      await tryAll(source, untried, watched)
      await source.transaction(async (trx) => {
        await plainQuery(trx, `set local lock_timeout = '${lockTimeoutMs}ms'`)
        for (const [at, { doing: what, sql }] of all.entries()) {
          await watched.step(attempt === 1 ? what : `${what} (try ${attempt} of ${tries})`, at, all.length)
          await (sql === baseSql ? ensureBase(trx) : plainQuery(trx, sql))
        }
        await watch.step('committing', all.length, all.length)
      })
      const { rows } = await source.raw<{ rows: { now: string }[] }>('select clock_timestamp() as now')
      return rows[0]!.now
    } catch (error) {
      if (error instanceof Problem) throw error
      if (errorCode(error) === '55P03' && attempt < tries) {
        await watch.step(`waiting for a table that the business has locked (try ${attempt} of ${tries})`, 0, all.length)
        await sleep(200 * 2 ** attempt)
        continue
      }
      throw refusal(error, doing)
    }
  }
}

/** What was tried in a source and held, by the digest of its SQL; the same need not be tried again. */
const soundIn = new WeakMap<Database, Set<string>>()

/** @throws Problem when capturing a table would fail at its first write, or would not tell of a field. */
async function tryAll(source: Database, untried: Set<CapturedTable>, watch: InstallationWatch): Promise<void> {
  const all = untried.size
  const known = soundIn.get(source) ?? new Set()
  soundIn.set(source, known)
  for (const [at, table] of [...untried].entries()) {
    const digest = createHash('sha256').update(captureSql(table, 0)).digest('hex')
    if (known.has(digest)) untried.delete(table)
    if (!untried.has(table)) continue
    await watch.step(`trying the capture of ${table.table} on a copy`, at, all)
    const tried = await tryOut(source, table)
    untried.delete(table)
    const nothing = 'Nothing was installed and the draft is kept.'
    if (tried.failure !== null)
      throw new Problem(
        'source-refused',
        `Capturing ${table.table} would fail, and its saves with it: ${tried.failure}. ${nothing}`,
      )
    if (tried.missed.length > 0) {
      const names = table.fields.filter((field) => tried.missed.includes(field.fieldId)).map((field) => field.name)
      throw new Problem(
        'source-refused',
        `Tried on a copy of ${table.table}, changes of ${listed(names)} made no entry. ${nothing}`,
      )
    }
    if (tried.untried.length > 0) {
      const names = table.fields.filter((field) => tried.untried.includes(field.fieldId)).map((field) => field.name)
      await watch.untried?.(
        `Of ${table.table}, no value of ${listed(names)} could be tried before the plan was put in force, since none is known of their types. Coverage and proof tries them on rows that are there.`,
      )
    }
    known.add(digest)
  }
}

function refusal(error: unknown, doing: string): Problem {
  if (isUnreachable(error)) {
    return new Problem('source-unreachable', `${unreachable(error).words} Nothing was installed and the draft is kept.`)
  }
  if (errorCode(error) === '55P03') {
    return new Problem(
      'source-busy',
      `While ${doing}, a table stayed locked by the business through ${tries} tries, so nothing was installed and the draft is kept. Try again when long-running work there has ended.`,
    )
  }
  const words = error instanceof Error ? error.message : String(error)
  return new Problem(
    'source-refused',
    `While ${doing}, the source answered: ${words}. Nothing was installed and the draft is kept.`,
  )
}

/** The plan version a source says is installed; null when nothing ever was. */
export async function installedVersion(source: Database): Promise<number | null> {
  const { rows: found } = await source.raw<{ rows: { there: boolean }[] }>(
    `select to_regclass('spoor_capture.meta') is not null as there`,
  )
  if (!found[0]?.there) return null
  const { rows } = await source.raw<{ rows: { value: string }[] }>(
    `select value from spoor_capture.meta where name = 'plan_version'`,
  )
  return rows[0] ? Number(rows[0].value) : null
}
