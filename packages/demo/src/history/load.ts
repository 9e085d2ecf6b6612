import pg from 'pg'
import { connect, People, sealsFacts, Sources, Vault } from '@spoor/server'
import { larkmereZone } from '../larkmere/calendar.ts'
import { Chance } from '../larkmere/chance.ts'
import { businessSchema } from '../larkmere/schema.ts'
import { quoteIdentifier as id } from '@spoor/server'
import { generateHistory, type History } from './generate.ts'
import { loadActivity } from './activity.ts'
import { drawTransactions, loadOutbox } from './load-outbox.ts'
import { loadTables } from './load-tables.ts'
import { trackLarkmere } from './track.ts'

export const seed = 4310

/** A line that says how far something is, at most every tenth. */
export function progress(say: (line: string) => void, what: string): (share: number) => void {
  let said = -1
  return (share) => {
    const tenth = Math.floor(share * 10)
    if (tenth <= said || tenth === 0) return
    said = tenth
    say(`  ${what}: ${tenth * 10} %`)
  }
}

export interface Plan {
  small: boolean
  until: string
  say(line: string): void
}

export function makeHistory({ small, until, say }: Plan): History {
  return generateHistory({
    seed,
    small,
    until,
    report: small ? () => undefined : progress(say, 'thirty months played'),
  })
}

/** Makes the business's tables and rows in one transaction as their owner. */
export async function loadBusiness(
  businessUrl: string,
  owner: string,
  grants: string,
  history: History,
): Promise<void> {
  const client = new pg.Client({ connectionString: businessUrl })
  await client.connect()
  try {
    await client.query('begin')
    await client.query(`set local role ${id(owner)}`)
    await client.query(businessSchema)
    await loadTables(client, history, new Chance(seed).fork('the rest'))
    await client.query(grants)
    await client.query('commit')
    await client.query('analyze')
  } finally {
    await client.end()
  }
}

export interface HistoryTargets {
  /** The business database as Spoor's own login there. */
  sourceUrl: string
  spoorUrl: string
  spoorOwnerUrl: string
  dataDir: string
  sourceName: string
  administratorLogin: string
}

/** Has the plan put in force as of the beginning and writes the history into the outbox, all or nothing. */
export async function loadHistory(
  targets: HistoryTargets,
  history: History,
  report: (share: number) => void,
): Promise<void> {
  const vault = Vault.open(targets.dataDir)
  const own = { applicationName: 'spoor demo', own: true, beforeCommit: sealsFacts(vault) }
  const db = connect(targets.spoorUrl, { ...own, maxConnections: 3 })
  const owner = connect(targets.spoorOwnerUrl, { ...own, maxConnections: 1 })
  const sources = new Sources(db, vault)
  // As Spoor's own login: whoever else writes captured rows leaves a trace.
  const client = new pg.Client({ connectionString: targets.sourceUrl })
  try {
    const source = (await sources.list()).find((one) => one.name === targets.sourceName)!
    const administrator = (await new People(db).byLogin(targets.administratorLogin))!
    const gap = history.incidents.find((incident) => incident.name === 'gap')!
    await client.connect()
    const first = await drawTransactions(
      client,
      history.recorder.trail.reduce((last, row) => Math.max(last, row.transaction), 0),
    )
    const { register, spells } = await trackLarkmere(db, owner, sources, source.id, administrator, history.from, gap)
    await loadActivity(await sources.connection(source.id), owner, source.id, history.recorder.trail, history.until)
    // Larkmere's hours are told by its own clock, wherever the demo runs.
    await db('spoor.noticing').update({ settings: JSON.stringify({ zone: larkmereZone }), changed_at: db.fn.now() })
    await client.query('begin')
    await loadOutbox(client, history.recorder.trail, register.tables, spells, first, report)
    await client.query(`insert into spoor_capture.meta (name, value) values ('demo_history', 'loaded')`)
    await client.query('commit')
  } finally {
    await client.end()
    await sources.close()
    await owner.destroy()
    await db.destroy()
  }
}

/** How far a demo got: nothing, tables only (an interrupted load), or all. */
export async function loadedSoFar(businessUrl: string): Promise<'nothing' | 'unfinished' | 'blank' | 'history'> {
  const client = new pg.Client({ connectionString: businessUrl })
  await client.connect()
  try {
    const exists = async (table: string) =>
      (await client.query<{ there: boolean }>('select to_regclass($1) is not null as there', [table])).rows[0]!.there
    if (!(await exists('lettings.tenancy'))) return 'nothing'
    if (await exists('spoor_capture.meta')) {
      const { rows } = await client.query<{ value: string }>(
        `select value from spoor_capture.meta where name = 'demo_history'`,
      )
      if (rows[0]) return 'history'
    }
    const { rows } = await client.query<{ words: string | null }>(
      `select obj_description('lettings'::regnamespace, 'pg_namespace') as words`,
    )
    return rows[0]?.words?.endsWith(blankMark) ? 'blank' : 'unfinished'
  } finally {
    await client.end()
  }
}

/** A demo that is to stay without a history says so, so that it is not taken for an interrupted load. */
export const blankMark = '(no history loaded)'

export async function markBlank(businessUrl: string): Promise<void> {
  const client = new pg.Client({ connectionString: businessUrl })
  await client.connect()
  await client.query(`comment on schema lettings is 'Homes, tenants and tenancies ${blankMark}'`)
  await client.end()
}
