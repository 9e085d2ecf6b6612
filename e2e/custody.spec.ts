import { spawnSync } from 'node:child_process'
import { join } from 'node:path'
import { expect, test, type Page } from '@playwright/test'
import { axeFindsNothing, demo, listenForErrors, query, root, rows, signIn } from './demo.ts'

/** Somebody makes sure that the ledger is as it was written, and is told when it is not. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
const { application, databases } = demo('west')
const spoor = <R extends object>(statement: string, values?: unknown[]) =>
  query<R & Record<string, unknown>>(databases.spoor, statement, values)
test.beforeAll(async ({ browser }) => {
  const context = await browser.newContext()
  await context.grantPermissions(['clipboard-read', 'clipboard-write'])
  page = await context.newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'west')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

async function checkAll() {
  await page.getByRole('button', { name: 'Check it now' }).click()
  await expect(page.getByText('Reading', { exact: false }).first()).toBeVisible()
  await expect(page.getByRole('button', { name: 'Stop' })).toHaveCount(0, { timeout: 60_000 })
}

test('the pulse leads to the custody of the ledger, where all of it is checked at one press', async () => {
  await expect(page.getByRole('banner')).toContainText(/sealed \d\d:\d\d/)
  await page.getByRole('link', { name: /sealed \d\d:\d\d/ }).click()
  await expect(page.getByRole('heading', { name: 'Custody of the ledger' })).toBeVisible()
  await checkAll()
  await expect(page.getByText('every one in place')).toBeVisible()
  await expect(page.getByRole('region', { name: 'Seals' }).getByRole('table')).toContainText('10,000')
  await axeFindsNothing(page)
  await page.getByRole('button', { name: 'Copy the seal' }).click()
  const note = await page.evaluate(() => navigator.clipboard.readText())
  expect(note).toMatch(/^spoor\/[0-9a-f-]{36}\n\d+\n[A-Za-z0-9+/=]{44}\ntime .*\nevents \d+ .*\n\n\u2014 spoor\/.*\n$/)
})

test('an opened save is checked in the browser, against the seal that covers it', async () => {
  await page.goto(`${application}/changes?save=12345`)
  const place = page.getByRole('region', { name: 'Its place in the ledger' })
  await expect(place).toContainText('Leaf 12,344, under seal')
  await place.getByRole('button', { name: 'Check it here' }).click()
  await expect(place.getByRole('listitem')).toHaveCount(4)
  await expect(place.getByRole('listitem').filter({ hasText: /^Holds/ })).toHaveCount(4)
})

test('a scope is taken out with its proofs, and checked without Spoor', async () => {
  await page.goto(`${application}/custody`)
  await page.getByRole('button', { name: 'Copy the key' }).click()
  const key = await page.evaluate(() => navigator.clipboard.readText())
  const [contractors] = await spoor<{ id: number }>(`select id from spoor.record_type where table_name = 'contractor'`)
  await page.goto(`${application}/changes?what=t${contractors!.id}`)
  const tail = page.locator('.bar .tail')
  await expect(tail).toContainText(/\d saves/)
  const saves = /([\d,]+) saves/.exec(await tail.innerText())![1]!.replaceAll(',', '')
  await page.getByRole('button', { name: 'Export', exact: true }).click()
  const [download] = await Promise.all([
    page.waitForEvent('download'),
    page.getByRole('link', { name: 'Export with proofs' }).click(),
  ])
  const file = await download.path()
  const check = (...args: string[]) =>
    spawnSync(process.execPath, [join(root, 'packages/verify/dist/main.js'), file, '--key', ...args], {
      encoding: 'utf8',
    })
  const checked = check(key)
  expect(checked.stdout).toContain(`${saves} saves; `)
  expect(checked.stdout).toMatch(/ 0 failed, \d+ skipped\.\nHOLDS\n$/)
  expect(checked.status).toBe(0)
  const wrong = check(key.replace(/.(?==*$)/, (last) => (last === 'A' ? 'B' : 'A')))
  expect(wrong.stdout).toContain('DOES NOT HOLD')
  expect(wrong.status).toBe(1)
})

test('what a superuser altered is named with its seals, stays until it is settled, and fails the browser’s check too', async () => {
  const [change] = await spoor<{ save_id: string; field_id: number; after: string }>(
    `select c.save_id, c.field_id, c.after from ledger.change c join ledger.save s on s.captured_at = c.captured_at and s.id = c.save_id
      where s.id between 12000 and 13000 and s.action = 'change' and c.after is not null order by c.save_id limit 1`,
  )
  const alter = (after: string) =>
    spoor('update ledger.change set after = $3 where save_id = $1 and field_id = $2', [
      change!.save_id,
      change!.field_id,
      after,
    ])
  await alter(`${change!.after}0`)
  try {
    await page.goto(`${application}/custody`)
    await checkAll()
    const alarm = page.getByRole('alert', { name: 'What does not match' })
    await expect(alarm).toContainText(`Save ${change!.save_id}`)
    await expect(alarm).toContainText('of this change, the value after is not as written')
    await expect(alarm).toContainText(/between seal \d+ and seal \d+/)
    await expect(page.getByRole('banner')).toContainText('the ledger does not match its seals')
    await axeFindsNothing(page)
    await alarm.getByRole('link', { name: 'Open the save' }).click()
    const place = page.getByRole('region', { name: 'Its place in the ledger' })
    await place.getByRole('button', { name: 'Check it here' }).click()
    await expect(place.getByRole('listitem').filter({ hasText: /^Does not hold/ })).not.toHaveCount(0)
  } finally {
    await alter(change!.after)
  }
  // It waits on Today as well, with whatever else is wrong.
  await page.goto(`${application}/today`)
  await expect(page.getByRole('alert', { name: 'What is wrong' })).toContainText(`Save ${change!.save_id}`)
  await page.goto(`${application}/custody`)
  const alarm = page.getByRole('alert', { name: 'What does not match' })
  await alarm.getByRole('button', { name: 'Settle …' }).click()
  await page.getByLabel('What was found out').fill('a test of the alarm; put back')
  await page.keyboard.press('Enter')
  await expect(alarm).toHaveCount(0)
  await checkAll()
  await expect(page.getByText('every one in place')).toBeVisible()
  await expect(page.getByRole('banner')).toContainText(/sealed \d\d:\d\d/)
})

test('values are erased by law when a second person agrees: gone everywhere, and the ledger still proves', async ({
  browser,
}) => {
  const [tenant] = await spoor<{ save_id: string; after: string }>(
    `select c.save_id, c.after from ledger.change c join spoor.field f on f.id = c.field_id join ledger.save s on s.captured_at = c.captured_at and s.id = c.save_id
      where f.column_name = 'phone' and s.action = 'change' and c.after is not null order by c.save_id limit 1`,
  )
  await page.goto(`${application}/changes?save=${tenant!.save_id}`)
  const pane = page.getByRole('complementary', { name: 'the opened save' })
  await expect(pane).toContainText(tenant!.after)
  await pane.getByRole('button', { name: 'Erase values by law …' }).click()
  await expect(pane.getByText(/Every change of it in this record \(\d+ changes?\)/)).toBeVisible()
  await pane.getByLabel('What obliges you to erase it').fill('Article 17, letter of 3 March.')
  await pane.getByRole('button', { name: 'Ask for it' }).click()
  await expect(pane.getByText('Waits for a second person')).toBeVisible()
  await expect(pane.getByRole('button', { name: 'Erase …' })).toHaveCount(0)
  await axeFindsNothing(page)

  const second = await (await browser.newContext()).newPage()
  await signIn(second, 'approver', 'west')
  await second.goto(`${application}/today`)
  await second.getByRole('link', { name: /Decide an erasure by law: phone of/ }).click()
  const asked = second.getByRole('region', { name: 'Values erased by law' })
  await asked.getByRole('button', { name: 'Erase …' }).click()
  await expect(asked.getByText(/will lose before and after for good/)).toBeVisible()
  await asked.getByRole('button', { name: 'Erase for good' }).click()
  await expect(asked).toContainText('Erased: phone of')
  await asked.getByRole('link', { name: 'Open the save' }).click()
  const there = second.getByRole('complementary', { name: 'the opened save' })
  await expect(there.getByText('erased', { exact: true })).toHaveCount(2)
  await expect(there).not.toContainText(tenant!.after)
  await there.getByRole('button', { name: 'Check it here' }).click()
  await expect(there.getByRole('listitem').filter({ hasText: /^Does not hold/ })).toHaveCount(0)
  await expect(there.getByRole('listitem').filter({ hasText: /^Holds/ })).not.toHaveCount(0)
  await second.close()

  await page.goto(`${application}/custody`)
  await checkAll()
  await expect(page.getByText('every one in place')).toBeVisible()
  await page.goto(`${application}/changes`)
  await page.getByRole('tab', { name: 'Around the records' }).click()
  await expect(page.getByText(/erased every change of “phone”/)).toBeVisible()
  // The same, counted by person and kind; a count leads to what it counts.
  await page.getByRole('button', { name: 'Who × what' }).click()
  const decider = page.getByRole('row', { name: /Hester Cardew/ })
  await decider.getByRole('button').filter({ hasText: /^1$/ }).last().click()
  await expect(page.getByText(/erased every change of “phone”/)).toBeVisible()
  await axeFindsNothing(page)
})

test('long work is listed with what became of it', async () => {
  await page.goto(`${application}/today`)
  await page.getByRole('button', { name: /^Signed in as/ }).click()
  await page.getByRole('link', { name: 'Long work' }).click()
  const done = page.getByRole('region', { name: 'What became of the rest' })
  await expect(done.getByRole('row', { name: /Checking the whole ledger/ }).first()).toContainText('Done.')
  await expect(done.getByRole('row', { name: /Taking in what tenancies hold/ }).first()).toContainText(
    /Done\.\s+Took in what [\d,]+ records held, \d+ fields? of each\./,
  )
  await axeFindsNothing(page)
})

test('a contributor is told nothing of it', async ({ browser }) => {
  const own = await (await browser.newContext()).newPage()
  await signIn(own, 'contributor', 'west')
  await rows(own).first().click()
  await expect(own.getByRole('complementary', { name: 'the opened save' })).toContainText('tracking plan')
  await expect(own.getByRole('region', { name: 'Its place in the ledger' })).toHaveCount(0)
  await expect(own.getByRole('link', { name: /sealed/ })).toHaveCount(0)
  await own.close()
})
