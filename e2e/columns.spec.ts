import { readFileSync } from 'node:fs'
import { parse } from 'csv-parse/sync'
import { expect, test, type Page } from '@playwright/test'
import { axeFindsNothing, demo, listenForErrors, rows, signIn } from './demo.ts'

/** Somebody arranges a list as they work with it, and finds it so again. */
test.describe.configure({ mode: 'serial' })

const { application } = demo('east')
const fortnight = 'when=last14d@UTC'
let page: Page
let errors: string[]
test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage()
  errors = listenForErrors(page)
  await signIn(page, 'reviewer', 'east')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

const heads = (of: Page) => of.getByRole('columnheader').filter({ visible: true })
const titles = async (of: Page) =>
  (await heads(of).allInnerTexts()).map((text) => text.replace(/\s*[↑↓]$/, '')).filter((text) => text !== 'Picked')

test('a list is put in the order of any column, and the link keeps it', async () => {
  await page.goto(`${application}/changes?${fortnight}`)
  await expect(rows(page).first()).toBeVisible()
  await page.getByRole('button', { name: 'Who', exact: true }).click()
  await expect(page).toHaveURL(/sort=who/)
  await expect(page.getByRole('columnheader', { name: 'Who' })).toHaveAttribute('aria-sort', 'ascending')
  const who = async () =>
    (await rows(page).locator('.who').allInnerTexts()).map((text) => text.replace(/ for .*| claimed$/, ''))
  const inOrder = (names: string[]) =>
    names.length > 5 &&
    names.every((name, at) => at === 0 || names[at - 1]!.localeCompare(name, 'en', { sensitivity: 'base' }) <= 0)
  await expect.poll(async () => inOrder(await who())).toBe(true)
  // Days are no headings then, so each line says its own.
  await expect(rows(page).first()).toContainText(/\d Nov|\d [A-Z][a-z]{2} /)
  await page.getByRole('button', { name: /^Who/ }).click()
  await expect(page).toHaveURL(/sort=-who/)
  await page.getByRole('button', { name: /^Who/ }).click()
  await expect(page).not.toHaveURL(/sort=/)
  await axeFindsNothing(page)
})

test('changes are put in the order of how much they moved', async () => {
  await page.goto(`${application}/changes?${fortnight}&reading=changes`)
  await page.getByRole('button', { name: 'Difference', exact: true }).click()
  await expect(page).toHaveURL(/sort=-difference/)
  const amounts = async () =>
    (
      await page
        .getByRole('table', { name: 'Changes' })
        .locator('.line:not(.head)')
        .locator('span[role=cell]:last-child')
        .allInnerTexts()
    ).map((text) => Number.parseFloat(text.replace('−', '-').replace('+', '')))
  const inOrder = (moved: number[]) => moved.length > 5 && moved.every((one, at) => at === 0 || moved[at - 1]! >= one)
  await expect.poll(async () => inOrder((await amounts()).filter((one) => !Number.isNaN(one)))).toBe(true)
})

test('where there is too much for another order, that is said, and a link to one offers the way back', async () => {
  await page.goto(`${application}/changes`)
  await expect(rows(page).first()).toBeVisible()
  await page.getByRole('button', { name: 'Who', exact: true }).click()
  await expect(page.getByRole('status').filter({ hasText: 'Only up to 5,000 lines' })).toBeVisible()
  await expect(page).not.toHaveURL(/sort=/)
  await page.goto(`${application}/changes?sort=who`)
  await expect(page.getByRole('alert')).toContainText('more than 5,000')
  errors.splice(0) // The refusal is in the browser's log, too.
  await page.getByRole('button', { name: 'Show the newest first' }).click()
  await expect(rows(page).first()).toBeVisible()
})

test('columns are chosen, moved and sized, and stand so wherever the person signs in', async ({ browser }) => {
  await page.goto(`${application}/changes?${fortnight}`)
  await expect.poll(() => titles(page)).toEqual(['Time', 'Who', 'Record', 'Before and after', 'Came in by'])
  await page.getByRole('button', { name: 'Columns' }).click()
  await page.getByRole('checkbox', { name: 'Reason' }).check()
  await page.getByRole('checkbox', { name: 'Came in by' }).uncheck()
  for (let n = 0; n < 4; n++) await page.getByRole('button', { name: 'Reason one place earlier' }).click()
  await page.keyboard.press('Escape')
  const moved = ['Time', 'Reason', 'Who', 'Record', 'Before and after']
  await expect.poll(() => titles(page)).toEqual(moved)
  const width = async (of: Page) => (await of.getByRole('columnheader', { name: 'Record' }).boundingBox())!.width
  const before = await width(page)
  const kept = page.waitForResponse(
    (response) => response.url().includes('/layouts/') && response.request().method() === 'PUT',
  )
  await page.getByRole('separator', { name: 'Width of Record' }).focus()
  for (let n = 0; n < 3; n++) await page.keyboard.press('ArrowRight')
  expect(Math.round(await width(page))).toBe(Math.round(before) + 48)
  await kept

  const elsewhere = await (await browser.newContext()).newPage()
  await signIn(elsewhere, 'reviewer', 'east', `/changes?${fortnight}`)
  await expect.poll(() => titles(elsewhere)).toEqual(moved)
  expect(Math.round(await width(elsewhere))).toBe(Math.round(before) + 48)
  await elsewhere.close()

  const other = await (await browser.newContext()).newPage()
  await signIn(other, 'approver', 'east', `/changes?${fortnight}`)
  await expect.poll(() => titles(other)).toEqual(['Time', 'Who', 'Record', 'Before and after', 'Came in by'])
  await other.close()

  const forgotten = page.waitForResponse((response) => response.url().includes('/layouts/'))
  await page.getByRole('button', { name: 'Columns' }).click()
  await page.getByRole('button', { name: 'As they were at first' }).click()
  await expect.poll(() => titles(page)).toEqual(['Time', 'Who', 'Record', 'Before and after', 'Came in by'])
  await forgotten
})

test('a file has the columns and the order that are on the screen', async () => {
  const cells = async () =>
    (await page.getByRole('table', { name: 'Changes' }).locator('.line:not(.head)').allInnerTexts()).slice(0, 6)
  const file = async () => {
    await page.getByRole('button', { name: 'Export', exact: true }).click()
    const [download] = await Promise.all([
      page.waitForEvent('download'),
      page.getByRole('link', { name: 'Export as CSV' }).click(),
    ])
    await page.keyboard.press('Escape')
    return parse(readFileSync(await download.path(), 'utf8'), { columns: true }) as Record<string, string>[]
  }
  await page.goto(`${application}/changes?${fortnight}&reading=changes`)
  await page.getByRole('button', { name: 'Difference', exact: true }).click()
  await expect(page).toHaveURL(/sort=-difference/)
  await expect.poll(cells).not.toEqual([])
  const lines = await file()
  expect(Object.keys(lines[0]!).join()).toBe(
    'time,who,kind of actor,on behalf of,record type,record,action,field,before,after,difference',
  )
  const moved = lines.flatMap((line) => (line['difference'] === '' ? [] : [Number(line['difference'])]))
  expect(moved.length).toBeGreaterThan(10)
  for (const [at, text] of (await cells()).entries()) {
    const { field, after } = lines[at]!
    expect(text).toContain(field)
    expect(text).toContain(after)
  }
  await page.goto(`${application}/changes?${fortnight}&sort=who`)
  await expect(rows(page).first()).toBeVisible()
  const byName = await file()
  expect(Object.keys(byName[0]!).join()).toBe(
    'time,who,kind of actor,on behalf of,record type,record,action,field,before,after,channel',
  )
  const names = byName.map((line) => line['who']!.toLowerCase())
  expect(names).toEqual([...names].sort((a, b) => a.localeCompare(b, 'en')))
})

test('a list goes on paper whole as far as it was read, and says when there is more', async () => {
  await page.goto(`${application}/changes`)
  await expect(rows(page).first()).toBeVisible()
  const onScreen = await rows(page).count()
  await page.emulateMedia({ media: 'print' })
  await page.evaluate(() => window.dispatchEvent(new Event('beforeprint')))
  await expect.poll(() => rows(page).count()).toBeGreaterThanOrEqual(100)
  expect(onScreen).toBeLessThan(100)
  await expect(page.getByText('More are in this scope; take them out as a file.')).toBeVisible()
  const [first, hundredth] = [await rows(page).first().boundingBox(), await rows(page).nth(99).boundingBox()]
  expect(hundredth!.y - first!.y).toBeGreaterThan(99 * first!.height - 1)
  await page.evaluate(() => window.dispatchEvent(new Event('afterprint')))
  await page.emulateMedia({ media: 'screen' })
  await expect.poll(() => rows(page).count()).toBeLessThan(100)
})
