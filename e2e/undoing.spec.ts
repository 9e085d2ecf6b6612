import { expect, test, type Page } from '@playwright/test'
import type { Incident, IncidentName } from '@spoor/demo'
import { axeFindsNothing, demo, listenForErrors, query, readJson, signIn } from './demo.ts'

/** What is wrong is set back whole; what no save explains is named; a moment is signed off; the desk shows a trail. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
const application = () => demo('history').application
const incident = (name: IncidentName) =>
  readJson<Incident[]>('history', 'incidents.json').find((one) => one.name === name)!
const spoor = <R extends object>(statement: string, values?: unknown[]) =>
  query<R & Record<string, unknown>>(demo('history').databases.spoor, statement, values)
const business = <R extends object>(statement: string, values?: unknown[]) =>
  query<R & Record<string, unknown>>(demo('history').databases.business, statement, values)
const typeOf = async (table: string) =>
  (await spoor<{ id: number }>('select id from spoor.record_type where table_name = $1', [table]))[0]!.id
const rents = async () =>
  new Map(
    (await business<{ id: number; weekly_rent: string }>('select id, weekly_rent from lettings.tenancy')).map((row) => [
      row.id,
      row.weekly_rent,
    ]),
  )

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'history')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

test('a whole run is set back but for what was corrected by hand since, is verified, and is undone', async () => {
  const fact = incident('uplift')
  const [run] = await spoor<{ id: number }>(
    `select r.id from ledger.run r join ledger.save s on s.run_id = r.id where r.declared = 'rent uplift 2026' group by r.id`,
  )
  const before = await rents()
  // What the run set and nobody touched since, told by the business and the run's own saves alone.
  const set = await spoor<{ record_key: string; before: string; after: string }>(
    `select c.record_key, c.before, c.after from ledger.change c join ledger.save s on s.id = c.save_id and s.captured_at = c.captured_at
       join spoor.field f on f.id = c.field_id where s.run_id = $1 and f.column_name = 'weekly_rent'`,
    [run!.id],
  )
  const idOf = (key: string) => Number((JSON.parse(key) as string[])[0])
  const still = set.filter(({ record_key, after }) => before.get(idOf(record_key)) === after)
  expect(set).toHaveLength(fact.records.length)
  expect(set.length - still.length).toBeGreaterThanOrEqual(37)

  await page.goto(`${application()}/changes?how=r${run!.id}`)
  await page.getByRole('button', { name: 'Set back …' }).click()
  await expect(page.getByText(`in ${set.length} saves`)).toBeVisible()
  const drafted = page.waitForResponse(
    (response) => response.url().endsWith('/corrections') && response.request().method() === 'POST',
  )
  await page.getByRole('button', { name: 'Draft and rehearse' }).click()
  expect((await drafted).status()).toBe(200)
  await expect(page.locator('[data-group=clear]')).toContainText(`${still.length} are clear`)
  await expect(page.locator('[data-group=changed-since]').first()).toContainText('changed since')
  await expect(page.locator('[data-group=follows]')).toContainText('worked out by the source')
  await axeFindsNothing(page)
  expect(await rents()).toEqual(before)

  await page.getByLabel('Reason').fill('The band table was loaded by mistake')
  await page.getByRole('button', { name: `Apply to ${still.length} records` }).click()
  await expect(page.getByText('Applied by Maud Ollerton')).toBeVisible()
  await expect(page.getByLabel('What the source says')).toContainText('all that were written')
  const target = new Map(still.map((one) => [idOf(one.record_key), one.before]))
  const after = await rents()
  for (const [id, rent] of before) expect([id, after.get(id)]).toEqual([id, target.get(id) ?? rent])

  await page.getByRole('button', { name: 'Undo this correction' }).click()
  await expect(page.getByText('rehearsal, nothing is written yet')).toBeVisible()
  await expect(page.locator('[data-group=clear]')).toContainText(`${still.length} are clear`)
  await page.getByLabel('Reason').fill('It was right after all')
  await page.getByRole('button', { name: `Apply to ${still.length} records` }).click()
  await expect(page.getByText('Applied by Maud Ollerton')).toBeVisible()
  expect(await rents()).toEqual(before)
})

test('what no save explains is named with both values, and taken in as found', async () => {
  // As somebody does who knows more than to switch triggers off, which would be told within half a minute.
  const hidden = (whether: boolean) =>
    `update pg_catalog.pg_class set relhastriggers = ${!whether} where oid = 'lettings.tenancy'::regclass`
  const [one] = await business<{ id: number; deposit: string }>(
    'select id, deposit from lettings.tenancy where deposit is not null and deposit <> 4321 order by id limit 1',
  )
  await page.goto(`${application()}/records/reconciling`)
  const all = page.getByRole('button', { name: 'Compare all now' })
  await all.click()
  // Gone while it goes on, back when it has ended: what is written meanwhile may be met by this look or the next.
  await expect(all).toHaveCount(0)
  await expect(all).toBeVisible({ timeout: 60_000 })
  await expect(page.getByText('Every record that was compared holds what its trail says.')).toBeVisible({
    timeout: 60_000,
  })
  await business(
    `begin; ${hidden(true)}; update lettings.tenancy set deposit = 4321 where id = ${one!.id}; ${hidden(false)}; commit`,
  )
  await page.getByRole('button', { name: 'Compare Tenancies now' }).click()
  const difference = page.getByLabel('Differences').getByRole('article')
  await expect(difference).toHaveCount(1, { timeout: 60_000 })
  await expect(difference).toContainText(new RegExp(`Tenancy ${one!.id}.*deposit.*${one!.deposit}.*4321`, 's'))
  await axeFindsNothing(page)
  await difference.getByRole('button', { name: 'Settle …' }).click()
  await difference.getByLabel('What it was').fill('Loaded by the vendor while triggers were off')
  await difference.getByLabel('take in as found').check()
  await difference.getByRole('button', { name: 'Settle it' }).click()
  await expect(difference).toHaveCount(0)
  await page.goto(
    `${application()}/records/${await typeOf('tenancy')}?key=${encodeURIComponent(JSON.stringify([String(one!.id)]))}`,
  )
  await expect(page.getByLabel('Two moments').getByRole('row').filter({ hasText: 'deposit' })).toContainText('4321', {
    timeout: 20_000,
  })
})

test('a moment is named, signed off, and what came after it is told', async () => {
  const fact = incident('uplift')
  const at = new Date(Date.parse(fact.from) - 3_600_000).toISOString()
  await page.goto(`${application()}/records/of/${await typeOf('tenancy')}?at=${at}`)
  await page.getByRole('button', { name: 'Baseline …' }).click()
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill('Before the uplift')
  await page.getByRole('textbox', { name: 'Why', exact: true }).fill('Rents as the board saw them')
  await page.getByRole('button', { name: 'Make the baseline' }).click()
  await expect(page.getByText(/^digest/)).toBeVisible({ timeout: 60_000 })
  await page.getByLabel('A note').fill('Minutes of 3 March')
  await page.getByRole('button', { name: 'Sign it' }).click()
  await expect(page.getByLabel('Signatures')).toContainText('checked by Maud Ollerton')
  await expect(page.getByLabel('Compared with later')).toContainText('another since')
  await axeFindsNothing(page)
  await page.getByRole('button', { name: 'Check it against the ledger' }).click()
  await expect(page.getByText(/^All [\d,]+ records held what was put down/)).toBeVisible({ timeout: 60_000 })
  const [key] = fact.records
  await page.goto(`${application()}/records/${await typeOf('tenancy')}?key=${encodeURIComponent(key!)}`)
  await expect(page.getByRole('link', { name: /^Baseline “Before the uplift”/ })).toBeVisible()
})

test('the desk shows a record’s trail to whoever may see it, and leads nobody else to it', async ({ browser }) => {
  const context = await browser.newContext()
  const desk = await context.newPage()
  const own = listenForErrors(desk)
  const [save] = await spoor<{ record_key: string }>(
    `select s.record_key from ledger.save s join spoor.actor a on a.id = s.actor_id join spoor.record_type t on t.id = s.type_id
      where a.name = 'Oona Marchetti' and t.table_name = 'contractor' and s.action = 'change' order by s.id desc limit 1`,
  )
  const path = `contractors/${(JSON.parse(save!.record_key) as string[])[0]}`
  const as = async (officer: string) => {
    await desk.goto(`${demo('history').desk}/sign-in`)
    await desk.getByLabel('Officer').selectOption(officer)
    await desk.getByRole('button', { name: 'Sign in' }).click()
    await desk.goto(`${demo('history').desk}/${path}`)
  }
  await as('Oona Marchetti')
  const trail = desk.getByLabel('The trail of this record')
  await expect(trail).toContainText('Oona Marchetti')
  await expect(trail).toContainText('You see a part of its changes.')
  await trail.getByLabel('Only changes of one field').selectOption('bank account')
  await expect(trail.locator('dt').first()).toHaveText('bank account')
  await as(
    (
      await business<{ full_name: string }>(
        `select full_name from reference.officer where left_on is null and full_name <> 'Oona Marchetti' order by full_name limit 1`,
      )
    )[0]!.full_name,
  )
  await expect(desk.getByText('has no access to Spoor')).toBeVisible()
  await expect(desk.getByLabel('The trail of this record')).toHaveCount(0)
  expect(own).toEqual([])
  await context.close()
})
