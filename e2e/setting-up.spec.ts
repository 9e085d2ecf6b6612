import { readFileSync } from 'node:fs'
import { expect, test, type Page } from '@playwright/test'
import { axeFindsNothing, choose, demo, listenForErrors, query, rows, signIn } from './demo.ts'

/** An administrator sets up tracking on Larkmere with its history, in the order in which it is done. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
const { application } = {
  get application() {
    return demo('west').application
  },
}
test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'west')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

const tile = (name: string) => page.getByRole('option', { name: new RegExp(`^${name},`) }).first()
const open = async (path: string) => {
  await page.goto(`${application}${path}`)
  await expect(page.getByText(/fields tracked/)).toBeVisible()
}
const reason = () => page.getByLabel('Reason', { exact: true })

test('another source is connected by its address, tried first, with words for what is wrong', async () => {
  await open('/tracking')
  await page.getByRole('button', { name: 'Sources …' }).click()
  await choose(page, 'Which source', 'a new source')
  await page.getByLabel('Address', { exact: true }).fill('postgresql://nobody:x@127.0.0.1:1/nowhere')
  await page.getByRole('button', { name: 'Try this address' }).click()
  await expect(page.getByText('Nothing answers at the source’s address.')).toBeVisible()
  const { business } = demo('west').databases
  await page.getByLabel('Address', { exact: true }).fill(business)
  await page.getByRole('button', { name: 'Try this address' }).click()
  await page.getByLabel('What to call it').fill('The same again')
  await page.getByRole('button', { name: 'Connect' }).click()
  await expect(page.getByRole('alert')).toContainText('connected already, as “Larkmere business database”')
  errors.length = 0 // The browser notes the refusal by itself.
  await query(business, 'create database annexe')
  const annexe = new URL(business)
  annexe.pathname = '/annexe'
  await query(
    annexe.href,
    `create role annexe_owner; create table annexe (id int primary key, word text); create table legacy_keys (hook text);
     alter table annexe owner to annexe_owner; alter table legacy_keys owner to annexe_owner`,
  )
  await page.getByLabel('Address', { exact: true }).fill(annexe.href)
  await page.getByRole('button', { name: 'Try this address' }).click()
  await expect(page.getByText('public.legacy_keys has no primary key')).toBeVisible()
  await axeFindsNothing(page)
  // By a superuser's address, which is not kept then.
  await expect(page.getByLabel('Make a login for Spoor')).toBeChecked()
  await expect(page.getByText('grant "annexe_owner" to "spoor_annexe";')).toBeVisible()
  await page.getByLabel('What to call it').fill('The annexe')
  await page.getByRole('button', { name: 'Connect' }).click()
  await expect(page.getByRole('combobox', { name: 'Source', exact: true })).toBeVisible()
  await expect(page.getByText('0 of 3 fields tracked · no plan in force yet')).toBeVisible()
  await page.getByRole('button', { name: 'Sources …' }).click()
  await expect(page.getByText(/postgresql:\/\/spoor_annexe@127\.0\.0\.1:\d+\/annexe/)).toBeVisible()
  await page.getByRole('button', { name: 'Close', exact: true }).click()
  await choose(page, 'Source', 'Larkmere business database')
  await expect(page.getByText(/70 of 118 fields tracked · plan 3 in force/)).toBeVisible()
})

test('the map shows lines, locks, masks and what changes unseen, worst first', async () => {
  await open('/tracking')
  await expect(page.getByRole('button', { name: '↳ Repair line' })).toBeVisible()
  await expect(tile('bank account')).toHaveAccessibleName(
    'bank account, kept as values, sensitive, reason asked, locked',
  )
  await expect(tile('date of birth')).toHaveAccessibleName('date of birth, kept as values, masked')
  const spots = page.locator('section').filter({ hasText: 'Changes nobody would see' }).getByRole('listitem')
  await expect(spots.first()).toContainText('Hazard · all 6 fields')
  await expect(spots.first()).toContainText(/[78]\d a day/)
  await expect(spots.filter({ hasText: 'Home · last seen by' })).toBeVisible()
  await axeFindsNothing(page)
})

test('several fields are set at once by pointer and by keyboard, and the draft says what it will cost', async () => {
  await tile('category').scrollIntoViewIfNeeded()
  const hazard = page.getByRole('listbox', { name: 'Fields of hazard' })
  const [from, to] = await Promise.all(
    ['category', 'made safe on'].map((name) =>
      hazard.getByRole('option', { name: new RegExp(`^${name},`) }).boundingBox(),
    ),
  )
  await page.mouse.move(from!.x + 5, from!.y + 5)
  await page.mouse.down()
  await page.mouse.move(to!.x + 5, to!.y + 5, { steps: 12 })
  await page.mouse.up()
  await expect(page.getByRole('heading', { name: '4 fields of hazards' })).toBeVisible()
  await page.keyboard.press('v')
  await expect(page.getByRole('heading', { name: 'Draft for plan 4 · 4 changes' })).toBeVisible()
  await expect(page.getByText(/^[23]\d → 1\d\d$/)).toBeVisible()
  await page.getByRole('button', { name: 'Try the cost' }).click()
  await expect(page.getByText(/writing a hazard \(tried \d+ times\)/)).toBeVisible()
  await page.keyboard.press('ArrowLeft')
  await page.getByRole('button', { name: 'Discard' }).click()
  await expect(page.getByRole('heading', { name: 'Nothing is staged' })).toBeVisible()
})

test('a lock is put on by typing what it means, and holds', async () => {
  await page.getByLabel('Find a field').fill('findings')
  await tile('findings').click()
  await page.getByRole('button', { name: 'Lock …' }).click()
  await expect(page.getByRole('button', { name: 'Stage the lock' })).toBeDisabled()
  await page.getByLabel('What the lock means').fill('keep for good')
  await page.getByRole('button', { name: 'Stage the lock' }).click()
  await expect(page.getByText('locked for good', { exact: true })).toBeVisible()
  await reason().fill('Findings are evidence')
  await page.getByRole('button', { name: 'Put in force' }).click()
  await expect(page.getByText(/plan 4 in force/)).toBeVisible()
  await tile('findings').click()
  await page.keyboard.press('o')
  await expect(page.getByRole('alert')).toContainText('findings of certificates is locked for good')
  errors.length = 0 // The browser notes the refusal by itself.
  await page.getByLabel('Find a field').fill('')
})

test('a plan that takes two is proposed by one and put in force by another', async ({ browser }) => {
  await open('/tracking')
  await page.getByRole('checkbox', { name: 'Changes of the plan take a second person' }).click()
  await reason().fill('Two see more')
  await page.getByRole('button', { name: 'Put in force' }).click()
  await expect(page.getByText(/plan 5 in force/)).toBeVisible()
  await page.getByRole('checkbox', { name: 'Changes of the plan take a second person' }).click()
  await reason().fill('One will do')
  await page.getByRole('button', { name: 'Ask a second person' }).click()
  await expect(page.getByText(/You asked for a second person/)).toBeVisible()
  await expect(page.getByRole('button', { name: 'Put in force' })).toHaveCount(0)
  const other = await (await browser.newContext()).newPage()
  await signIn(other, 'approver', 'west')
  await other.getByRole('link', { name: 'Tracking', exact: true }).click()
  await expect(other.getByText('Maud Ollerton asked for a second person')).toBeVisible()
  await other.getByLabel('Reason', { exact: true }).fill('Agreed')
  await other.getByRole('button', { name: 'Put in force' }).click()
  await expect(other.getByText(/plan 6 in force/)).toBeVisible()
  await other.close()
})

test('versions say who, when and why, are compared, returned to, and go out and in as a file', async () => {
  await open('/tracking/plans')
  const version = (n: number) =>
    page.getByRole('article').filter({ has: page.getByRole('heading', { name: new RegExp(`^Plan ${n}\\b`) }) })
  await expect(version(6)).toContainText('put in force by Hester Cardew')
  await expect(version(2)).toContainText('“Deposit scheme is being moved”')
  await page.getByRole('checkbox', { name: 'Compare plan 2' }).check()
  await page.getByRole('checkbox', { name: 'Compare plan 3' }).check()
  const pane = page.getByRole('complementary', { name: 'what would change' })
  await expect(pane).toContainText('Tenancy · deposit')
  await expect(pane).toContainText('off → values')
  await axeFindsNothing(page)
  await version(2).getByRole('button', { name: 'Return to it …' }).click()
  await expect(pane).toContainText('values → off')
  await expect(pane).toContainText('findings of certificates is locked for good')
  await expect(pane.getByRole('button', { name: 'Stage this' })).toBeDisabled()
  const [download] = await Promise.all([
    page.waitForEvent('download'),
    version(6).getByRole('link', { name: 'As a file' }).click(),
  ])
  const file = JSON.parse(readFileSync(await download.path(), 'utf8')) as {
    format: string
    types: { table: string; reason: string }[]
  }
  expect(file.format).toBe('spoor-plan')
  file.types.find((type) => type.table === 'contractor')!.reason = 'asked'
  const choose = (content: unknown) =>
    page.locator('input[type=file]').setInputFiles({
      name: 'spoor-plan.json',
      mimeType: 'application/json',
      buffer: Buffer.from(typeof content === 'string' ? content : JSON.stringify(content)),
    })
  await choose('{"format": "something else"}')
  await expect(pane.getByRole('alert')).toContainText('Nothing was staged')
  await choose(file)
  await expect(pane).toContainText('Contractor')
  await expect(pane).toContainText('reason asked')
  await pane.getByRole('button', { name: 'Stage this' }).click()
  await expect(page.getByRole('heading', { name: 'Draft for plan 7 · 1 change' })).toBeVisible()
  await page.getByRole('button', { name: 'Discard' }).click()
})

test('coverage shows the gap, and one press proves every field', async () => {
  await open('/tracking/coverage')
  await page.getByRole('button', { name: /^Tenancy \d/ }).click()
  await expect(page.getByText(/Not on the trail:.*deposit.*switched off in the tracking plan/)).toBeVisible()
  await page.getByRole('button', { name: 'Prove it now' }).click()
  await expect(page.getByText(/70 fields recorded/)).toBeVisible({ timeout: 30_000 })
  await expect(page.getByRole('row').filter({ hasText: 'weekly rent' })).toContainText('proved')
  await axeFindsNothing(page)
})

test('who nobody knew becomes known, and the directory follows a change of name', async () => {
  await open('/tracking/who')
  const unknown = page.getByRole('region', { name: 'Not known' })
  await expect(unknown).toContainText('maint_ro')
  await unknown.getByRole('button', { name: 'Say who this is' }).first().click()
  await page.getByRole('radio', { name: 'something not known yet' }).check()
  await page.getByLabel('What to call it').fill('Night maintenance')
  await page.getByRole('button', { name: 'Keep this' }).click()
  await expect(page.getByRole('region', { name: 'Known by login or name' })).toContainText('Night maintenance')
  const list = demo('west').staffList
  await page.getByText('From an LDAP directory').click()
  await page.getByLabel('LDAP address').fill(list.url)
  await page.getByLabel('Look below').fill(list.base)
  await page.getByLabel('Sign in there as').fill(list.bindName)
  await page.getByLabel('Password there').fill('wrong')
  await page.getByRole('button', { name: 'See what it would change' }).click()
  await expect(page.getByRole('alert')).toContainText('Spoor’s own directory is as it was')
  errors.length = 0
  await page.getByLabel('Password there').fill(list.password)
  await page.getByRole('button', { name: 'See what it would change' }).click()
  await expect(page.getByText('Wilf Amory')).toBeVisible()
  await expect(page.getByText(/-Hale.*their saves stay theirs/)).toBeVisible()
  await page.getByRole('button', { name: 'Take it' }).click()
  await expect(page.getByRole('region', { name: 'Directory' })).toContainText('Wilf Amory')
  await axeFindsNothing(page)
  // The five saves at night are found under who made them.
  const [actor] = await query<{ id: number }>(
    demo('west').databases.spoor,
    `select id from spoor.actor where name = 'Night maintenance'`,
  )
  await page.goto(`${application}/changes?who=a${actor!.id}&runs=apart`)
  await expect(rows(page)).toHaveCount(5)
  await expect(rows(page).first()).toContainText('Night maintenance (login maint_ro)')
})

test('an auditor is let in to one scope until a day, and that is written down', async ({ browser }) => {
  await open('/tracking/access')
  await page.getByRole('button', { name: 'Give somebody access' }).click()
  const pane = page.getByRole('complementary', { name: 'a person' })
  await pane.getByLabel('Full name').fill('Audrey Finch')
  await pane.getByLabel('Signs in as').fill('audrey')
  await pane.getByLabel('Password').fill('larkmere-audrey')
  await choose(page, 'Role', 'Auditor')
  await pane.locator('[data-part=what]').click()
  await page.getByLabel('Find a record type or field').fill('bank account')
  await page.getByRole('checkbox', { name: 'bank account' }).check()
  await page.keyboard.press('Escape')
  await axeFindsNothing(page)
  await pane.getByRole('button', { name: 'Give access' }).click()
  await expect(page.getByText('Changes to bank account of contractors by anyone, at any time.')).toBeVisible()
  await expect(page.getByText(/gave Audrey Finch access as auditor/)).toBeVisible()
  const auditor = await (await browser.newContext()).newPage()
  await auditor.goto(application)
  await auditor.getByLabel('Name').fill('audrey')
  await auditor.getByLabel('Password').fill('larkmere-audrey')
  await auditor.getByRole('button', { name: 'Sign in' }).click()
  await auditor.getByRole('link', { name: 'Changes', exact: true }).click()
  await expect(rows(auditor).first()).toBeVisible()
  for (const text of await rows(auditor).allInnerTexts()) expect(text).toMatch(/bank account/)
  await expect(auditor.getByRole('link', { name: 'Tracking', exact: true })).toHaveCount(0)
  await auditor.close()
})

test('a masked value is revealed in the save, and what follows is folded under its cause', async () => {
  const [field] = await query<{ id: number }>(
    demo('west').databases.spoor,
    `select id from spoor.field where column_name = 'date_of_birth'`,
  )
  await page.goto(`${application}/changes?what=f${field!.id}`)
  await rows(page).first().click()
  const pane = page.getByRole('complementary', { name: 'the opened save' })
  await expect(pane).toContainText('••••••')
  await pane.getByRole('button', { name: 'Reveal (this is recorded)' }).click()
  await expect(pane.getByText(/^19\d\d-\d\d-\d\d$|^20\d\d-\d\d-\d\d$/).first()).toBeVisible()
  const [rent] = await query<{ id: string }>(
    demo('west').databases.spoor,
    `select c.save_id as id from ledger.change c join spoor.field f on f.id = c.field_id join ledger.save s on s.id = c.save_id where f.column_name = 'monthly_rent' and s.action = 'change' order by c.save_id desc limit 1`,
  )
  await page.goto(`${application}/changes?save=${rent!.id}`)
  await expect(pane.getByText(/Followed from it: .*monthly rent/)).toBeVisible()
})

test('every word has its meaning at hand', async () => {
  await open('/tracking')
  await page.getByRole('button', { name: 'What the words mean' }).click()
  await page.getByLabel('Find a word').fill('fingerprint')
  await expect(page.getByText(/Only that the field changed is kept/)).toBeVisible()
  await page.keyboard.press('Escape')
})
