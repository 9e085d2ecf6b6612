import { expect, test, type Page } from '@playwright/test'
import type { Incident } from '@spoor/demo'
import { axeFindsNothing, choose, demo, listenForErrors, query, readJson, signIn } from './demo.ts'

/** Unit prices after approval and emptied sets are refused at the desk, opened for one person for a while, and told of. */
test.describe.configure({ mode: 'serial' })

let page: Page
let desk: Page
let errors: string[]
const { application, databases, desk: deskAddress } = (() => demo('west'))()
const business = <R extends object>(statement: string, values?: unknown[]) =>
  query<R & Record<string, unknown>>(databases.business, statement, values)

const priceWords = 'The price was agreed when the order was approved. Ask Contracts for a variation.'
const setWords = 'A home keeps at least one amenity: name those that it has.'

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'west')
  desk = await (await browser.newContext()).newPage()
  await desk.goto(deskAddress)
  await desk.getByLabel('Officer').selectOption('Tariq Lindqvist')
  await desk.getByRole('button', { name: 'Sign in' }).click()
})
test.afterAll(() => Promise.all([page.close(), desk.close()]))
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

/** Chooses in a list that is longer than what is drawn of it: what is typed leaves the rest out. */
async function find(label: string, option: string): Promise<void> {
  const combobox = page.getByRole('combobox', { name: label, exact: true })
  await page.locator('.ant-select').filter({ has: combobox }).click()
  await page.keyboard.type(option)
  await page.locator('.ant-select-dropdown:visible .ant-select-item-option').filter({ hasText: option }).click()
}

async function nameIt(name: string, words: string): Promise<void> {
  await page.getByLabel('Name of the guard').fill(name)
  await page.getByLabel('What whoever is refused reads').fill(words)
  await choose(page, 'Warns or refuses', 'refuses')
  await page.getByRole('button', { name: 'Stage in the draft' }).click()
}

async function editAtDesk(path: string, label: string, value: string): Promise<void> {
  await desk.goto(`${deskAddress}/${path}`)
  await desk.getByLabel(label, { exact: true }).fill(value)
  await desk.getByRole('button', { name: 'Save' }).click()
}

let line: { id: number; unit_price: string }

test('what would have been refused in the past year is seen before it is put in force', async () => {
  ;[line] = (await business<{ id: number; unit_price: string }>(
    `select l.id, l.unit_price::text from repairs.repair_line l join repairs.repair_order o on o.id = l.order_id
      where o.status = 'approved' order by l.id limit 1`,
  )) as [typeof line]
  await page.goto(`${application}/watches/guards?guard=new`)
  await find('Which records it guards', 'repair lines')
  await find('Which field', 'unit price')
  await find('Where another field', 'where approved by of its repair order')
  await choose(page, 'Was or was not', 'was none of')
  await choose(page, 'Which values of the other field', '∅ nothing')
  await page.keyboard.press('Escape')
  // Prices raised after approval: those that were planted, and no other.
  const planted = readJson<Incident[]>('west', 'incidents.json').find((one) => one.name === 'unitPrices')!
  const past = page.getByRole('region', { name: 'Tried on the past year' })
  await expect(past).toContainText(`It would have met ${planted.counts['saves']} saves, all by ${planted.who[0]}.`)
  await axeFindsNothing(page)
  await nameIt('agreed prices', priceWords)
  const row = page.getByRole('link', {
    name: /Refuse changes of unit price of repair lines where approved by of repair orders/,
  })
  await expect(row).toContainText('draft')

  await page.getByRole('link', { name: 'New guard' }).click()
  await find('Which records it guards', 'homes')
  await find('Which field', 'amenities')
  await choose(page, 'To which value', 'to nothing')
  await expect(past).toContainText(/It would have met/)
  await nameIt('amenities stay', setWords)
  await expect(page.getByRole('link', { name: /Refuse changes of amenities of homes to nothing/ })).toContainText(
    'draft',
  )

  await page.getByRole('link', { name: 'look at the draft' }).click()
  await expect(page.getByText(/“agreed prices” added: refuses/)).toBeVisible()
  await page.getByLabel('Reason', { exact: true }).fill('prices and sets were changed by mistake')
  await page.getByRole('button', { name: 'Put in force' }).click()
  await expect(page.getByRole('heading', { name: 'Nothing is staged' })).toBeVisible({ timeout: 60_000 })
})

test('the desk is refused in words that its officers understand, and nothing is changed', async () => {
  await editAtDesk(`repair-lines/${line.id}`, 'Unit price', '999.00')
  await expect(desk.getByText(`Not saved: ${priceWords}`)).toBeVisible()
  const [home] = await business<{ id: number; amenities: string }>(
    `select id, amenities::text from lettings.home where cardinality(amenities) > 1 order by id limit 1`,
  )
  await editAtDesk(`homes/${home!.id}`, 'Amenities', '{}')
  await expect(desk.getByText(`Not saved: ${setWords}`)).toBeVisible()
  expect(await business('select id, unit_price::text from repairs.repair_line where id = $1', [line.id])).toEqual([
    line,
  ])
  expect(await business('select id, amenities::text from lettings.home where id = $1', [home!.id])).toEqual([home])
  await page.goto(`${application}/watches/guards`)
  await page.getByRole('link', { name: /Refuse changes of unit price/ }).click()
  await expect(page.getByRole('region', { name: 'What it met' })).toContainText('by Tariq Lindqvist', {
    timeout: 20_000,
  })
  await expect(page.getByRole('link', { name: /Refuse changes of unit price/ })).toContainText('refused 1 save')
})

test('a guard is opened for somebody for a while, and the save that passed says so', async () => {
  await page.getByRole('button', { name: 'Open it for somebody' }).click()
  await find('For whom it is opened', 'Tariq Lindqvist')
  await page.getByLabel('Why it is opened').fill('variation 12 was signed')
  await page.getByRole('button', { name: 'Open it', exact: true }).click()
  await expect(page.getByRole('link', { name: /Refuse changes of unit price/ })).toContainText(
    'open for Tariq Lindqvist until',
  )
  await editAtDesk(`repair-lines/${line.id}`, 'Unit price', (Number(line.unit_price) + 1).toFixed(2))
  await expect(desk.getByText('Saved: Unit price.')).toBeVisible()
  const met = page.getByRole('region', { name: 'What it met' })
  await expect(met).toContainText('passed, it was open', { timeout: 20_000 })
  await axeFindsNothing(page)
  await met.getByRole('link').first().click()
  await expect(page.getByText(/It passed by the guard/)).toContainText('variation 12 was signed')
  await page.goBack()
  await page.getByRole('button', { name: 'Close it now' }).click()
  await expect(page.getByText('closed by Maud Ollerton')).toBeVisible()
  await editAtDesk(`repair-lines/${line.id}`, 'Unit price', (Number(line.unit_price) + 2).toFixed(2))
  await expect(desk.getByText(`Not saved: ${priceWords}`)).toBeVisible()
})
