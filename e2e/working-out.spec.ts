import { expect, test, type Page } from '@playwright/test'
import { durationText } from '@spoor/core'
import type { Incident, IncidentName } from '@spoor/demo'
import { axeFindsNothing, demo, listenForErrors, query, readJson, rows, signIn } from './demo.ts'

/** Figures of Larkmere are worked out as people do it for a report, and every one of them leads to its saves. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
const { application, databases } = demo('west')
const incident = (name: IncidentName) =>
  readJson<Incident[]>('west', 'incidents.json').find((one) => one.name === name)!
test.beforeAll(async ({ browser }) => {
  const context = await browser.newContext({ timezoneId: 'Europe/London' })
  page = await context.newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'west')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

const tail = () => page.locator('.bar .tail')
const scope = () => page.getByRole('group', { name: 'Scope' })
const form = (name: string) => page.getByRole('group', { name: 'What is worked out' }).getByRole('button', { name })
const asks = (name: string) => page.getByRole('group', { name })
async function choose(group: string, part: string, words: string) {
  await asks(group).getByRole('button', { name: part, exact: true }).click()
  await page.getByRole('button', { name: words, exact: true }).click()
}
const amount = (text: string) => Number(text.replace(/[^\d.−-]/g, '').replace('−', '-'))
const fieldOf = async (table: string, column: string) => {
  const [field] = await query<{ id: number }>(
    databases.spoor,
    `select f.id from spoor.field f join spoor.record_type t on t.id = f.type_id where t.table_name = $1 and f.column_name = $2`,
    [table, column],
  )
  return field!.id
}

test('a pivot is put together by pressing its sentence, and agrees with SQL by hand', async () => {
  await page.goto(`${application}/changes?when=2026-01-01..2026-06-30@Europe/London`)
  await page.getByRole('tab', { name: 'Work out' }).click()
  await choose('What the pivot shows', 'who', 'kind of actor')
  const line = page.getByRole('row', { name: /^people/ })
  await expect(line).toBeVisible()
  const told = await query<{ month: string; saves: string }>(
    databases.spoor,
    `select to_char(captured_at at time zone 'Europe/London', 'YYYY-MM') as month, count(*) as saves from ledger.save
      where actor_kind = 'person' and captured_at >= '2026-01-01' and captured_at < '2026-06-30 23:00' group by 1 order by 1`,
  )
  const cells = await line.getByRole('cell').allTextContents()
  expect(cells.slice(0, 6).map(amount)).toEqual(told.map(({ saves }) => Number(saves)))
  await axeFindsNothing(page)
  // A figure leads to its saves.
  await line.getByRole('cell').nth(2).getByRole('button').click()
  await expect(scope()).toContainText('by people, from 1 to 31 March 2026')
  await expect(tail()).toHaveText(new RegExp(`^\\s*${Number(told[2]!.saves).toLocaleString('en-GB')} saves`))
  await page.goBack()
})

test('who works at which hour: the login at 02:40 stands out', async () => {
  const fact = incident('terminal')
  // What the tests before have done today at whatever hour it is by now says nothing of how people work.
  const day = (offset: number) =>
    new Date(Date.parse(fact.from) + offset * 86_400_000).toLocaleDateString('en-CA', { timeZone: 'Europe/London' })
  const when = `when=${day(-180)}..${day(0)}@Europe/London`
  await page.goto(
    `${application}/changes?what=t${await typeOf('tenancy')}&who=k.person,k.unknown&${when}&reading=work&work=pivot;columns=hour;top=50`,
  )
  // By now somebody may have said who that was.
  const [actor] = await query<{ name: string }>(
    databases.spoor,
    `select distinct coalesce(k.name, a.name) as name from ledger.save s join spoor.actor a on a.id = s.actor_id
       left join spoor.actor k on k.id = a.same_as where s.db_login = 'maint_ro'`,
  )
  const line = page.getByRole('row').filter({ has: page.getByRole('rowheader', { name: actor!.name, exact: true }) })
  await expect(line).toBeVisible()
  const hours = await page.getByRole('columnheader').allTextContents()
  const night = hours.findIndex((text) => text.trim().startsWith('02'))
  const stands = line
    .getByRole('cell')
    .nth(night - 1)
    .locator('button.stands')
  await expect(stands).toHaveText(String(fact.counts['saves']!))
  await expect(stands).toHaveAttribute('title', /would be expected if .* were as all others/)
  await stands.click()
  await expect(scope()).toContainText('from 02:00 to 03:00 (Europe/London)')
  await expect(tail()).toHaveText(new RegExp(`^\\s*${fact.counts['saves']} saves`))
  await expect(rows(page)).toHaveCount(1)
  // The same said by hand: hours and days of the week are a part of the sentence.
  await page.goto(`${application}/changes?what=t${await typeOf('tenancy')}&who=k.unknown&${when}`)
  await page.getByRole('button', { name: 'Narrow further' }).click()
  await page.getByRole('button', { name: 'Hours and days' }).click()
  await page.getByRole('button', { name: '02', exact: true }).click()
  await expect(scope()).toContainText('from 02:00 to 03:00 (Europe/London)')
  await expect(tail()).toHaveText(new RegExp(`^\\s*${fact.counts['saves']} saves`))
  await page.getByRole('button', { name: 'Everything but these instead' }).click()
  await expect(scope()).toContainText('except from 02:00 to 03:00')
  await axeFindsNothing(page)
  await page.keyboard.press('Escape')
})

async function typeOf(table: string): Promise<number> {
  const [type] = await query<{ id: number }>(
    databases.spoor,
    `select id from spoor.record_type where table_name = $1`,
    [table],
  )
  return type!.id
}

test('the rent roll shows the wrong uplift, and the 412 are exact', async () => {
  const rent = await fieldOf('tenancy', 'weekly_rent')
  const uplift = incident('uplift')
  const day = new Date(uplift.from).toLocaleDateString('en-CA', { timeZone: 'Europe/London' })
  const before = new Date(Date.parse(`${day}T12:00:00Z`) - 86_400_000).toISOString().slice(0, 10)
  await page.goto(`${application}/changes?what=f${rent}&reading=work`)
  await form('Figure over time').click()
  await expect(asks('Which figure is shown')).toContainText('The total of weekly rent of tenancies over all of them')
  const moved = page.getByRole('region', { name: 'What moved it' })
  await expect(moved).toContainText('tenancies begun')
  await page.getByLabel('Day A').fill(before)
  await page.getByLabel('Day B').fill(day)
  // That of another day is gone.
  await expect(moved).not.toContainText('second part')
  const part = moved.getByRole('row', { name: /rent uplift/ })
  await expect(part).toContainText('412 records')
  const [told] = await query<{ difference: string; all: string }>(
    databases.spoor,
    `select sum(c.after::numeric - c.before::numeric) filter (where s.action = 'change' and r.declared like 'rent uplift%') as difference,
            sum(coalesce(c.after::numeric, 0) - coalesce(c.before::numeric, 0)) as all
       from ledger.change c join ledger.save s on s.id = c.save_id left join ledger.run r on r.id = s.run_id
      where c.field_id = $1 and (c.captured_at at time zone 'Europe/London')::date = $2::date`,
    [rent, day],
  )
  expect(amount(await part.getByRole('cell').last().textContent().then(String))).toBe(Number(told!.difference))
  await expect(moved.getByRole('row', { name: /^together/ })).toBeVisible()
  const together = await moved
    .getByRole('row', { name: /^together/ })
    .getByRole('cell')
    .last()
    .textContent()
  expect(amount(together!)).toBe(Number(told!.all))
  // Figures of somebody's own, with the same marks on them; what is no figure is said.
  await page.getByText('Figures of your own, with these marks on them').click()
  const own = (text: string) => ({ name: 'calls.csv', mimeType: 'text/csv', buffer: Buffer.from(text) })
  await page.getByLabel('File of figures').setInputFiles(own(`${before},many`))
  await expect(page.getByRole('alert')).toContainText('Line 1 has no plain number after its day')
  const after = new Date(Date.parse(`${day}T12:00:00Z`) + 86_400_000).toISOString().slice(0, 10)
  await page.getByLabel('File of figures').setInputFiles(own(`${before},10\n${day},30\n${after},32`))
  await expect(
    page.getByText(/on average 10 over the 1 figure before, 30 over the 1 figure from then on/),
  ).toBeVisible()
  await axeFindsNothing(page)
  await part.getByRole('button').click()
  await expect(tail()).toHaveText(/^\s*412 saves/)
})

test('repair orders from raised to completed, by contractor, and it is kept for the report', async () => {
  const status = await fieldOf('repair_order', 'status')
  await page.goto(`${application}/changes?what=f${status}&reading=work&work=stays;from=raised;to=completed`)
  await expect(asks('Which times are reckoned')).toContainText(
    'status of repair orders took from “raised” to “completed”',
  )
  await choose('Which times are reckoned', 'who ended it', 'contractor id')
  await expect(page.getByRole('columnheader', { name: 'contractor id' })).toBeVisible({ timeout: 30_000 })
  const [told] = await query<{ many: string; median: string; label: string }>(
    databases.spoor,
    `with told as (
       select s.record_key, s.captured_at, c.after from ledger.save s join ledger.change c on c.save_id = s.id and c.field_id = $1 where c.after is not null),
     passed as (
       select record_key, done, done - raised as took
         from (select record_key, min(captured_at) filter (where after = 'completed') as done, min(captured_at) filter (where after = 'raised') as raised
                 from told group by 1) t
        where raised < done),
     held as (
       select distinct on (p.record_key) p.took, c.after as contractor
         from passed p join ledger.change c on c.field_id = $2 and c.record_key = p.record_key and c.captured_at <= p.done
        where c.after is not null order by p.record_key, c.captured_at desc)
     select count(*) as many, extract(epoch from percentile_cont(0.5) within group (order by took)) as median, r.label
       from held h join spoor.record r on r.record_key = '["' || h.contractor || '"]' and r.type_id = $3 group by r.label order by 1 desc, 3 limit 1`,
    [status, await fieldOf('repair_order', 'contractor_id'), await typeOf('contractor')],
  )
  const line = page.getByRole('row').filter({ has: page.getByRole('rowheader', { name: told!.label, exact: true }) })
  await expect(line).toBeVisible()
  await axeFindsNothing(page)
  await expect(line.getByRole('cell').nth(1)).toHaveText(durationText(Number(told!.median) * 1000))
  await page.getByRole('button', { name: 'Kept scopes' }).click()
  await page.getByLabel('Keep this reading as').fill('Repairs for the board')
  await page.getByRole('button', { name: 'Keep', exact: true }).click()
  await expect(page.getByRole('button', { name: 'Remove Repairs for the board' })).toBeVisible()
  await page.keyboard.press('Escape')
  await page.goto(`${application}/changes`)
  await page.getByRole('button', { name: 'Kept scopes' }).click()
  await page.getByRole('button', { name: 'Repairs for the board', exact: true }).click()
  await expect(asks('Which times are reckoned')).toContainText('took from “raised” to “completed”, by contractor id.')
})

test('what cannot be put together is said, and what is worked out goes out as a file', async () => {
  await page.goto(`${application}/changes?reading=work&work=pivot;measure=net`)
  await expect(page.getByRole('alert')).toContainText('They are not put together')
  errors.length = 0 // The browser notes the refusal by itself.
  await page.goto(`${application}/changes?reading=work&work=pie`)
  await page.getByRole('button', { name: 'Begin with a pivot' }).click()
  await expect(page.getByRole('row', { name: /^in all/ })).toBeVisible()
  await page.getByRole('button', { name: 'Export' }).click()
  const [file] = await Promise.all([
    page.waitForEvent('download'),
    page.getByRole('link', { name: 'What was worked out, as a workbook' }).click(),
  ])
  expect(file.suggestedFilename()).toBe('worked-out.xlsx')
  expect(await file.failure()).toBeNull()
})
