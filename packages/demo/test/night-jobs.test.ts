import { setTimeout as sleep } from 'node:timers/promises'
import { randomBytes } from 'node:crypto'
import pg from 'pg'
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest'
import { loadBusiness, loadedSoFar, makeHistory, markBlank } from '../src/history/load.ts'
import { Chance } from '../src/larkmere/chance.ts'
import { databaseLogins } from '../src/larkmere/staff.ts'
import { nextDeed } from '../src/night-jobs/deeds.ts'
import { NightJobs } from '../src/night-jobs/night-jobs.ts'
import { businessGrants, demoNames, ensureDatabases, urlOf } from '../src/set-up/databases.ts'
import { loginNames, type Secrets } from '../src/set-up/secrets.ts'

const names = demoNames(40_000 + (randomBytes(2).readUInt16BE() % 20_000))
const secrets = Object.fromEntries(loginNames.map((name) => [name, randomBytes(9).toString('hex')])) as Secrets
let clusterUrl: string
let businessUrl: string

beforeAll(async () => {
  clusterUrl = inject('clusterUrl')
  businessUrl = urlOf(clusterUrl, names.business)
  await ensureDatabases(clusterUrl, names, secrets, false)
  const history = makeHistory({ small: true, until: '2026-11-23', say: () => undefined })
  expect(await loadedSoFar(businessUrl)).toBe('nothing')
  await loadBusiness(businessUrl, names.role('larkmere_owner'), businessGrants(names), history)
})
afterAll(async () => {
  const cluster = new pg.Client({ connectionString: clusterUrl })
  await cluster.connect()
  for (const name of [names.business, names.spoor]) await cluster.query(`drop database ${name} with (force)`)
  for (const name of [...loginNames, 'larkmere_owner'] as const) await cluster.query(`drop role ${names.role(name)}`)
  await cluster.end()
})

describe('an interrupted load', () => {
  it('is seen as unfinished, unless the demo was meant to be blank', async () => {
    expect(await loadedSoFar(businessUrl)).toBe('unfinished')
    await markBlank(businessUrl)
    expect(await loadedSoFar(businessUrl)).toBe('blank')
  })

  it('begins again on databases made anew', async () => {
    const spare = demoNames(39_999)
    await ensureDatabases(clusterUrl, spare, secrets, false)
    await ensureDatabases(clusterUrl, spare, secrets, true)
    expect(await loadedSoFar(urlOf(clusterUrl, spare.business))).toBe('nothing')
    const cluster = new pg.Client({ connectionString: clusterUrl })
    await cluster.connect()
    for (const name of [spare.business, spare.spoor]) await cluster.query(`drop database ${name} with (force)`)
    for (const name of [...loginNames, 'larkmere_owner'] as const) await cluster.query(`drop role ${spare.role(name)}`)
    await cluster.end()
  })
})

describe('the night jobs', () => {
  const known = { homes: [1, 2, 3], tenancies: [4, 5, 6], orders: [7, 8], officers: ['A', 'B'] }

  it('do the same for the same seed, with every login now and then', () => {
    const play = (seed: number) => {
      const chance = new Chance(seed)
      return Array.from({ length: 3000 }, () => nextDeed(chance, known, '2026-11-23'))
    }
    expect(play(7)).toEqual(play(7))
    expect(play(8)).not.toEqual(play(7))
    expect(new Set(play(7).map((deed) => deed.login))).toEqual(new Set(databaseLogins))
    for (const deed of play(7)) expect(deed.context === null).toBe(deed.login === 'maint_ro')
  })

  it('work through a connection of each login, without failing', async () => {
    const troubles: string[] = []
    const jobs = new NightJobs({
      urlAs: (login) => urlOf(clusterUrl, names.business, { name: names.role(login), password: secrets[login] }),
      seed: 7,
      perMinute: 6000,
      connections: 4,
      onTrouble: (words) => troubles.push(words),
    })
    const before = new pg.Client({ connectionString: businessUrl })
    await before.connect()
    const sum = async () =>
      (await before.query<{ sum: string }>('select sum(xmin::text::bigint) as sum from lettings.tenancy')).rows[0]!.sum
    const at = await sum()
    jobs.start()
    while (jobs.counts.done + jobs.counts.failed < 150) await sleep(20)
    await jobs.stop()
    expect(troubles).toEqual([])
    expect(jobs.counts.failed).toBe(0)
    expect(await sum()).not.toBe(at)
    await before.end()
  })
})
