import { expect, test, type Page } from '@playwright/test'
import type { Incident, IncidentName } from '@spoor/demo'
import { axeFindsNothing, demo, listenForErrors, query, readJson, signIn } from './demo.ts'

/** What is wrong is set back whole; what no save explains is named; a moment is signed off; the desk shows a trail. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
const application = () => demo('east').application
const incident = (name: IncidentName) =>
  readJson<Incident[]>('east', 'incidents.json').find((one) => one.name === name)!
const spoor = <R extends object>(statement: string, values?: unknown[]) =>
  query<R & Record<string, unknown>>(demo('east').databases.spoor, statement, values)
const business = <R extends object>(statement: string, values?: unknown[]) =>
  query<R & Record<string, unknown>>(demo('east').databases.business, statement, values)
const typeOf = async (table: string) =>
  (await spoor<{ id: number }>('select id from spoor.record_type where table_name = $1', [table]))[0]!.id
const rents = async () =>
  new Map(
    (await business<{ id: number; weekly_rent: string }>('select id, weekly_rent from lettings.tenancy')).map((row) => [
      row.id,
      row.weekly_rent,
    ]),
  )
/** The rents that the wrong uplift set, told by its own saves alone. */
async function uplift() {
  const [run] = await spoor<{ id: number }>(
    `select r.id from ledger.run r join ledger.save s on s.run_id = r.id where r.declared = 'rent uplift 2026' group by r.id`,
  )
  const set = await spoor<{ record_key: string; before: string; after: string }>(
    `select c.record_key, c.before, c.after from ledger.change c join ledger.save s on s.id = c.save_id and s.captured_at = c.captured_at
       join spoor.field f on f.id = c.field_id where s.run_id = $1 and f.column_name = 'weekly_rent'`,
    [run!.id],
  )
  return { runId: run!.id, set }
}
const services = async () =>
  new Map(
    (
      await business<{ id: number; support_services: string[] }>('select id, support_services from lettings.tenancy')
    ).map((row) => [row.id, row.support_services]),
  )
const memberList = (literal: string) => (literal === '{}' ? [] : literal.slice(1, -1).replaceAll('"', '').split(','))

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'east')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

test('a whole run is set back but for what was corrected by hand since, is verified, and is undone', async () => {
  const fact = incident('uplift')
  const { runId, set } = await uplift()
  const before = await rents()
  const idOf = (key: string) => Number((JSON.parse(key) as string[])[0])
  const still = set.filter(({ record_key, after }) => before.get(idOf(record_key)) === after)
  expect(set).toHaveLength(fact.records.length)
  expect(set.length - still.length).toBeGreaterThanOrEqual(37)

  await page.goto(`${application()}/changes?how=r${runId}`)
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

test('what the source refuses is left when a run is set back record by record, says why, and is drafted anew', async () => {
  const { runId, set } = await uplift()
  const before = await rents()
  const still = set
    .map((one) => ({ ...one, id: Number((JSON.parse(one.record_key) as string[])[0]) }))
    .filter(({ id, after }) => before.get(id) === after)
  // The business has a rule for three of them by now.
  const left = new Set(still.slice(0, 3).map(({ id }) => id))
  const rule = still.slice(0, 3).map(({ id, before: rent }) => `id = ${id} and weekly_rent = ${rent}`)
  await business(`alter table lettings.tenancy add constraint agreed check (not (${rule.join(' or ')})) not valid`)
  const apply = async (many: number, reason: string) => {
    await page.getByLabel('Reason').fill(reason)
    await page.getByRole('button', { name: `Apply to ${many} records` }).click()
    await expect(page.getByText('Applied by Maud Ollerton')).toBeVisible()
    await expect(page.getByRole('button', { name: 'Undo this correction' })).toBeVisible()
  }
  let address: string
  try {
    await page.goto(`${application()}/changes?how=r${runId}`)
    await page.getByRole('button', { name: 'Set back …' }).click()
    await page.getByRole('button', { name: 'Draft and rehearse' }).click()
    await expect(page.getByLabel('What the source says')).toContainText('agreed')
    await page.getByLabel('Reason').fill('why')
    await expect(page.getByRole('button', { name: `Apply to ${still.length} records` })).toBeDisabled()
    await page.getByRole('radio', { name: 'record by record' }).check()
    await expect(page.getByText('what cannot be written is left and drafted anew')).toBeVisible()
    await axeFindsNothing(page)
    await apply(still.length, 'The band table was loaded by mistake')
    await expect(page.getByText('It was applied record by record: 3 records are left as they were')).toBeVisible()
    await expect(page.locator('[data-state=clear]').filter({ hasText: 'agreed' })).toHaveCount(3)
    address = page.url()
    const target = new Map(still.filter(({ id }) => !left.has(id)).map(({ id, before: rent }) => [id, rent]))
    for (const [id, rent] of await rents()) expect([id, rent]).toEqual([id, target.get(id) ?? before.get(id)])
  } finally {
    await business('alter table lettings.tenancy drop constraint agreed')
  }
  await page.getByRole('link', { name: /^correction \d+$/ }).click()
  await expect(page.getByText('It is what correction')).toBeVisible()
  await page.getByRole('button', { name: 'Rehearse again' }).click()
  await expect(page.locator('[data-group=clear]')).toContainText('3 are clear')
  await apply(3, 'Agreed by now')
  const target = new Map(still.map(({ id, before: rent }) => [id, rent]))
  for (const [id, rent] of await rents()) expect([id, rent]).toEqual([id, target.get(id) ?? before.get(id)])

  // Both are set back again.
  for (const many of [3, still.length - 3]) {
    await page.getByRole('button', { name: 'Undo this correction' }).click()
    await expect(page.locator('[data-group=clear]').filter({ hasText: `${many} are clear` })).toBeVisible()
    await apply(many, 'It was right after all')
    await page.goto(address)
  }
  expect(await rents()).toEqual(before)
})

test('a deleted tenant comes back with tenancy, household and account lines when a second person agrees, and goes again', async ({
  browser,
}) => {
  const fact = incident('deletedTenant')
  const [key] = fact.records
  const tenant = Number((JSON.parse(key!) as string[])[0])
  const held = async () => {
    const [row] = await business<{ held: unknown }>(
      `select json_build_object('tenant', (select to_json(t) from lettings.tenant t where id = $1),
         'tenancies', (select json_agg(t order by id) from lettings.tenancy t where tenant_id = $1),
         'entries', (select count(*) from lettings.rent_account_entry e join lettings.tenancy t on t.id = e.tenancy_id where t.tenant_id = $1),
         'household', (select count(*) from lettings.household_member m join lettings.tenancy t on t.id = m.tenancy_id where t.tenant_id = $1)) as held`,
      [tenant],
    )
    return row!.held as { tenant: Record<string, unknown> | null; entries: number; household: number }
  }
  expect(await held()).toMatchObject({ tenant: null, entries: 0, household: 0 })
  const last = await spoor<{ column_name: string; before: string }>(
    `select f.column_name, c.before from ledger.change c join ledger.save s on s.id = c.save_id and s.captured_at = c.captured_at
       join spoor.field f on f.id = c.field_id join spoor.record_type t on t.id = s.type_id
      where s.action = 'delete' and t.table_name = 'tenant' and s.record_key = $1`,
    [key],
  )
  await page.goto(`${application()}/records/${await typeOf('tenant')}?key=${encodeURIComponent(key!)}`)
  await page.getByRole('button', { name: 'Bring it back …' }).click()
  const records = 2 + fact.counts['accountLines']! + fact.counts['household']!
  await expect(page.locator('[data-group=clear]')).toContainText(`${records} records come back`)
  await expect(page.getByLabel('What the source says')).toContainText(/It accepts \d+ values of/)
  await expect(page.getByRole('note')).toContainText('Somebody other than you applies it')
  await axeFindsNothing(page)
  const asked = page.getByRole('note').filter({ hasText: 'asked for a second person' })
  await page.getByLabel('Reason').fill('It was no duplicate')
  await page.getByRole('button', { name: 'Ask for a second person' }).click()
  await expect(asked).toContainText('It waits under Today')

  const second = await (await browser.newContext()).newPage()
  const own = listenForErrors(second)
  await signIn(second, 'approver', 'east', '/today')
  const number = /corrections\/(\d+)/.exec(page.url())![1]!
  const waiting = second.getByRole('link', { name: `Look over correction ${number} and apply it: It was no duplicate` })
  await waiting.click()
  await second.getByRole('button', { name: 'Send back' }).click()
  await second.getByLabel('What you say to it').fill('Whose tenancy is it?')
  await second.getByRole('button', { name: 'Send it back to Maud Ollerton' }).click()
  await expect(second.getByText('sent it back: “Whose tenancy is it?”')).toBeVisible()
  await page.goto(`${application()}/today`)
  await page.getByRole('link', { name: `Correction ${number} came back:` }).click()
  await page.getByLabel('Reason').fill('It was no duplicate: theirs')
  await page.getByRole('button', { name: 'Ask for a second person' }).click()
  await expect(asked).toContainText('theirs')
  await second.reload()
  await second.getByRole('button', { name: `Apply to ${records} records` }).click()
  await expect(second.getByText('Applied by Hester Cardew')).toBeVisible()
  await expect(second.getByLabel('What the source says')).toContainText('all that were written')
  const back = await held()
  expect(back).toMatchObject({ entries: fact.counts['accountLines'], household: fact.counts['household'] })
  for (const { column_name: column, before } of last)
    if (typeof back.tenant![column] === 'string') expect([column, back.tenant![column]]).toEqual([column, before])

  await page.reload()
  await page.getByRole('button', { name: 'Undo this correction' }).click()
  await expect(page.locator('[data-group=clear]')).toContainText(`${records} records go`)
  await page.getByLabel('Reason').fill('Taken back in a test')
  await page.getByRole('button', { name: 'Ask for a second person' }).click()
  await expect(asked).toContainText('It waits under Today')
  await second.goto(page.url())
  await second.getByRole('button', { name: `Apply to ${records} records` }).click()
  await expect(second.getByText('Applied by Hester Cardew')).toBeVisible()
  expect(await held()).toMatchObject({ tenant: null, entries: 0, household: 0 })
  expect(own).toEqual([])
  await second.context().close()
})

test('what officers added since to emptied sets stays, and what was taken away comes back', async () => {
  const [run] = await spoor<{ id: number }>(
    `select s.run_id as id from ledger.change c join ledger.save s on s.id = c.save_id and s.captured_at = c.captured_at
       join spoor.field f on f.id = c.field_id where f.column_name = 'support_services' and c.after = '{}' and s.record_key = $1 and s.run_id is not null`,
    [incident('emptiedServices').records[0]!],
  )
  const set = await spoor<{ record_key: string; before: string }>(
    `select s.record_key, c.before from ledger.change c join ledger.save s on s.id = c.save_id and s.captured_at = c.captured_at where s.run_id = $1`,
    [run!.id],
  )
  const ids = set.map(({ record_key }) => Number((JSON.parse(record_key) as string[])[0]))
  await business(
    `begin; select spoor_capture.context(actor => 'Oona Marchetti', kind => 'person', reason => 'agreed at the visit');
     update lettings.tenancy set support_services = array['key safe', 'lifeline'] where id in (${ids.slice(0, 5).join()}); commit`,
  )
  const before = await services()
  await expect
    .poll(() => spoor(`select from ledger.save where reason = 'agreed at the visit'`).then((rows) => rows.length))
    .toBeGreaterThan(4)
  await page.goto(`${application()}/changes?how=r${run!.id}`)
  await page.getByRole('button', { name: 'Set back …' }).click()
  await page.getByRole('button', { name: 'Draft and rehearse' }).click()
  const visited = page.locator('[data-group=changed-since]').filter({ hasText: 'agreed at the visit' })
  await expect(visited).toContainText('5 changed since')
  await visited.getByText('merge', { exact: true }).click()
  await expect(page.locator('[data-state=changed-since]').first()).toContainText('key safe · lifeline · ')
  await page.getByLabel('Reason').fill('The import lost them')
  await page.getByRole('button', { name: /^Apply to/ }).click()
  await expect(page.getByText('Applied by Maud Ollerton')).toBeVisible()
  const after = await services()
  for (const [at, { before: had }] of set.entries()) {
    const id = ids[at]!
    const [stood, stands] = [before.get(id)!, after.get(id)!]
    const wanted = at < 5 ? [...new Set([...stood, ...memberList(had)])] : stood.length === 0 ? memberList(had) : stood
    expect([id, [...stands].sort()]).toEqual([id, [...wanted].sort()])
  }
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
    await desk.goto(`${demo('east').desk}/sign-in`)
    await desk.getByLabel('Officer').selectOption(officer)
    await desk.getByRole('button', { name: 'Sign in' }).click()
    await desk.goto(`${demo('east').desk}/${path}`)
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
