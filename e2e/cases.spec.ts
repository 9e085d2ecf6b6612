import { expect, test, type Page } from '@playwright/test'
import { axeFindsNothing, demo, listenForErrors, rows, signIn } from './demo.ts'

/** The login at 02:40 becomes a case: gathered, looked into, packed and closed. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
const { application } = (() => demo('east'))()
const question = 'Who signed in at 02:40, and what did they change?'

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'east')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

test('saves are gathered from the tray, and a record from its page', async () => {
  await page.goto(`${application}/changes?who=k.unknown&runs=apart`)
  await expect(rows(page).first()).toBeVisible()
  const saves = await rows(page).count()
  for (let at = 0; at < saves; at++) await rows(page).nth(at).getByRole('checkbox').check()
  await expect(page.getByText(`${saves} saves in the tray`)).toBeVisible()
  await page.getByRole('button', { name: 'Case …' }).click()
  await page.getByLabel('What is to be found out').fill(question)
  await page.getByRole('button', { name: 'Open it with this' }).click()
  await expect(page.getByText(/^Case \d+ is opened\.$/)).toBeVisible()

  await page.goto(`${application}/evidence/cases`)
  await expect(page.getByRole('row', { name: new RegExp(`${saves} saves`) })).toContainText(question.slice(0, 20))
  await axeFindsNothing(page)
  await page.getByRole('link', { name: question }).click()
  await expect(page.getByRole('region', { name: 'Saves' }).getByRole('listitem')).toHaveCount(saves)
  await page.getByRole('region', { name: 'Saves' }).getByRole('link').first().click()
  await expect(page.getByText(`gathered in case 1 “${question}”`)).toBeVisible()
  await page.goto(`${application}/today`)
  await expect(page.getByRole('link', { name: question })).toBeVisible()
})

test('what was thought stands in it, and it becomes a pack that holds it', async () => {
  await page.goto(`${application}/evidence/cases`)
  await page.getByRole('link', { name: question }).click()
  await page.getByLabel('Something to write in it').fill('Nobody was on shift. <b>Not us.</b>')
  await page.getByRole('button', { name: 'Write it' }).click()
  await expect(page.getByText('Nobody was on shift. <b>Not us.</b>')).toBeVisible()
  await axeFindsNothing(page)
  await page.getByRole('link', { name: 'Make a pack of it' }).click()
  await expect(page.getByLabel('for', { exact: true })).toHaveValue(question)
  await page.getByLabel('why').fill('for the police')
  await page.getByRole('button', { name: 'Make the pack' }).click()
  await expect(page.getByRole('link', { name: 'Take the file' })).toBeVisible({ timeout: 100_000 })
  await expect(page.getByRole('article', { name: 'The first page' })).toContainText(`gathered in case 1 “${question}”`)
})

test('it is closed with a finding, takes nothing then, and is opened again with a reason', async () => {
  await page.goto(`${application}/evidence/cases`)
  await page.getByRole('link', { name: question }).click()
  await expect(page.getByRole('region', { name: 'Packs' })).toContainText(question)
  await page.getByLabel('What was found').fill('The login of a consultant who left; it is taken away.')
  await page.getByRole('button', { name: 'Close it with this finding' }).click()
  await expect(page.getByText(/Closed by Maud Ollerton/)).toBeVisible()
  await expect(page.getByRole('button', { name: 'Take out' })).toHaveCount(0)
  await page.goto(`${application}/evidence/cases`)
  await page.getByRole('button', { name: 'Closed' }).click()
  await expect(page.getByRole('row', { name: /it is taken away/ })).toBeVisible()
  await page.getByRole('link', { name: question }).click()
  await page.getByLabel('Why it is opened again').fill('a second login was found')
  await page.getByRole('button', { name: 'Open it again' }).click()
  await expect(page.getByLabel('Something to write in it')).toBeVisible()
})

test('seals are given to witnesses, and Custody says who took which', async () => {
  await page.goto(`${application}/custody`)
  const witnesses = page.getByRole('region', { name: 'Witnesses' })
  await page.getByRole('button', { name: 'Give them the latest seal now' }).click()
  await expect(witnesses.getByRole('row', { name: /notary@larkmere\.example/ })).toContainText(/seal \d/, {
    timeout: 30_000,
  })
  await expect(witnesses.getByRole('link', { name: 'its time-stamp' })).toBeVisible()
})
