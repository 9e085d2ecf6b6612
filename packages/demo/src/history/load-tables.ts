import { pipeline } from 'node:stream/promises'
import { Readable } from 'node:stream'
import type pg from 'pg'
import { from as copyFrom } from 'pg-copy-streams'
import { copyLine } from '@spoor/server'
import { jobCodes } from '../larkmere/words.ts'
import type { Chance } from '../larkmere/chance.ts'
import type { History } from './generate.ts'
import type { Row } from './recorder.ts'
import type { TrackedTable } from './tracked.ts'

/** An order in which every row finds what it refers to. */
const loadOrder: readonly TrackedTable[] = [
  'reference.officer',
  'reference.rent_band',
  'lettings.home',
  'lettings.tenant',
  'lettings.tenancy',
  'lettings.rent_account_entry',
  'lettings.household_member',
  'contractors.contractor',
  'contractors.contract_rate',
  'contractors.payment',
  'repairs.repair_order',
  'repairs.repair_line',
  'safety.certificate',
]

/** Columns that the database works out by itself. */
const ownWork: ReadonlySet<string> = new Set(['monthly_rent', 'arrears_status', 'amount of repairs.repair_line'])

/** Writes Larkmere's rows as they stand at the end of the history. Runs inside the caller's transaction. */
export async function loadTables(client: pg.Client, history: History, chance: Chance): Promise<void> {
  await copyRows(
    client,
    'reference.job_code',
    jobCodes.map(([code, description, trade, price]) => ({
      code,
      description,
      trade,
      standard_price: price.toFixed(2),
    })),
  )
  for (const table of loadOrder) await copyRows(client, table, [...history.recorder.table(table).values()])
  await copyRows(client, 'safety.hazard', hazards(history, chance))
  await copyRows(client, 'lettings."ViewingBooking"', viewings(history, chance))
  await copyRows(client, 'lettings.legacy_keys', [
    { home_id: '1001', hook: 'B14', note: 'spare?' },
    { home_id: '1001', hook: 'B14', note: null },
    { home_id: '1044', hook: 'C2', note: 'front door' },
  ])
}

async function copyRows(client: pg.Client, table: string, rows: readonly Row[]): Promise<void> {
  if (rows.length === 0) return
  const columns = [...new Set(rows.flatMap((row) => Object.keys(row)))].filter(
    (column) => !ownWork.has(column) && !ownWork.has(`${column} of ${table}`),
  )
  const sink = client.query(copyFrom(`copy ${table} (${columns.map((column) => `"${column}"`).join(', ')}) from stdin`))
  await pipeline(Readable.from(rows.map((row) => copyLine(columns.map((column) => row[column] ?? null)))), sink)
}

function hazards({ recorder, until }: History, chance: Chance): Row[] {
  const homes = [...recorder.table('lettings.home').keys()].map((key) => (JSON.parse(key) as string[])[0]!)
  return Array.from({ length: Math.ceil(homes.length / 8) }, (_, at) => {
    const reported = new Date(Date.parse(until) - chance.whole(1, 500) * 86_400_000).toISOString().slice(0, 10)
    const safe = chance.odds(0.8)
    return {
      id: String(at + 1),
      home_id: chance.pick(homes),
      category: chance.pick(['damp', 'fire', 'electrical', 'falls', 'water']),
      status: safe ? 'made safe' : 'open',
      reported_on: reported,
      made_safe_on: safe ? reported : null,
    }
  })
}

function viewings({ recorder, until }: History, chance: Chance): Row[] {
  const homes = [...recorder.table('lettings.home').keys()].map((key) => (JSON.parse(key) as string[])[0]!)
  return Array.from({ length: Math.ceil(homes.length / 20) }, (_, at) => ({
    Id: String(at + 1),
    HomeId: chance.pick(homes),
    ViewedAt: new Date(Date.parse(until) - chance.whole(1, 300) * 3_600_000 * 24).toISOString(),
    Outcome: chance.pick(['taken', 'refused', 'no show']),
  }))
}
