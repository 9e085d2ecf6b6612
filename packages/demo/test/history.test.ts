import pg from 'pg'
import { describe, expect, inject, it } from 'vitest'
import { isWorkday, onOrAfter, weekday } from '../src/larkmere/calendar.ts'
import { generateHistory } from '../src/history/generate.ts'
import { incidentNames } from '../src/history/incident.ts'
import { demoNames, DemoRefusal, ensureDatabases } from '../src/set-up/databases.ts'
import { loginNames, type Secrets } from '../src/set-up/secrets.ts'

const options = { seed: 4310, small: true, until: '2026-11-23' }
const history = generateHistory(options)

describe('Larkmere’s history', () => {
  it('is the same for the same seed, and another for another', () => {
    const again = generateHistory(options)
    expect(again.recorder.trail).toEqual(history.recorder.trail)
    expect(again.incidents).toEqual(history.incidents)
    expect(generateHistory({ ...options, seed: 1 }).recorder.trail).not.toEqual(history.recorder.trail)
  })

  it('joins each after to the next before, but across the gap', () => {
    const latest = new Map<string, string | null>()
    const broken: string[] = []
    for (const row of history.recorder.trail) {
      for (const [column, [before, after]] of Object.entries(row.delta)) {
        const place = `${row.table} ${row.key} ${column}`
        if (row.action === 'change' && latest.has(place) && latest.get(place) !== before) broken.push(place)
        latest.set(place, after)
      }
    }
    const unseen = history.incidents.find((one) => one.name === 'gap')!.records
    for (const place of broken) expect(unseen.some((key) => place === `lettings.tenancy ${key} deposit`)).toBe(true)
  })

  it('ends with the rows it says', () => {
    const latest = new Map<string, string | null>()
    for (const row of history.recorder.trail)
      for (const [column, [, after]] of Object.entries(row.delta))
        latest.set(`${row.table}\n${row.key}\n${column}`, row.action === 'delete' ? null : after)
    for (const [place, after] of latest) {
      const [table, key, column] = place.split('\n') as [Parameters<typeof history.recorder.table>[0], string, string]
      const row = history.recorder.table(table).get(key)
      expect(row ? (row[column] ?? null) : null).toBe(after)
    }
  })

  it.each(['2026-11-23', '2026-06-10', '2027-01-02', '2026-04-20'])(
    'has every incident with records and all its counts, ending on %s',
    (until) => {
      const { incidents } = generateHistory({ ...options, until })
      expect(incidents.map((one) => one.name)).toEqual([...incidentNames])
      for (const { name, records, counts, from, until: end } of incidents) {
        expect(from <= end).toBe(true)
        if (name !== 'ordinaryDays') expect([name, records.length > 0]).toEqual([name, true])
        if (['certificates', 'unitPrices', 'emptiedServices', 'terminal', 'delegate', 'uplift'].includes(name))
          expect([name, records.length]).toEqual([name, counts['saves']])
      }
    },
  )

  it('is in order of time and lies within its spell', () => {
    const times = history.recorder.trail.map((row) => row.atMs)
    expect(times).toEqual([...times].sort((a, b) => a - b))
    expect(times.at(-1)!).toBeLessThan(Date.parse(history.until))
    expect(times[0]!).toBeGreaterThanOrEqual(Date.parse(history.from))
  })
})

describe('the calendar', () => {
  it.each([
    ['2026-11-23', 1],
    ['2026-11-22', 7],
    ['2024-02-29', 4],
  ])('%s is weekday %i', (date, day) => expect(weekday(date)).toBe(day))
  it.each([
    ['2026-04-03', false], // Good Friday
    ['2026-04-06', false], // Easter Monday
    ['2026-12-25', false],
    ['2026-11-21', false],
    ['2026-11-23', true],
  ])('%s is a working day: %s', (date, works) => expect(isWorkday(date)).toBe(works))
  it('finds the first Thursday of April', () => expect(onOrAfter('2026-04-01', 4)).toBe('2026-04-02'))
})

describe('a database that is not the demo’s', () => {
  it('is refused in words and not touched', async () => {
    const clusterUrl = inject('clusterUrl')
    const names = demoNames(49_999)
    const client = new pg.Client({ connectionString: clusterUrl })
    await client.connect()
    await client.query(`drop database if exists ${names.business}`)
    await client.query(`create database ${names.business}`)
    const secrets = Object.fromEntries(loginNames.map((name) => [name, 'x'])) as Secrets
    for (const afresh of [false, true]) {
      const refusal = await ensureDatabases(clusterUrl, names, secrets, afresh).catch((error: unknown) => error)
      expect(refusal).toBeInstanceOf(DemoRefusal)
      expect((refusal as Error).message).toContain(`“${names.business}” that is not the demo’s. Nothing was touched.`)
    }
    const { rowCount } = await client.query('select from pg_database where datname = $1', [names.business])
    expect(rowCount).toBe(1)
    expect((await client.query('select from pg_roles where rolname = $1', [names.role('desk_app')])).rowCount).toBe(0)
    await client.query(`drop database ${names.business}`)
    await client.end()
  })
})
