import { expect, test, type Page } from '@playwright/test'
import type { Incident } from '@spoor/demo'
import { axeFindsNothing, choose, demo, listenForErrors, query, readJson, signIn } from './demo.ts'

/** The bank account is watched over: tried on the past, changed at the source, told in Spoor and by mail, and followed back. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
const { application, mailroom, databases } = (() => demo('west'))()
const spoor = <R extends object>(statement: string, values?: unknown[]) =>
  query<R & Record<string, unknown>>(databases.spoor, statement, values)
const mails = async () =>
  (await (await fetch(`${mailroom.page}mails.json`)).json()) as { to: string[]; subject: string; text: string }[]

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'west')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

test('a watch is made of what is on the screen and tells when it would have fired', async () => {
  const fact = readJson<Incident[]>('west', 'incidents.json').find((one) => one.name === 'bankAccount')!
  const [field] = await spoor<{ id: number; type_id: number }>(
    `select f.id, f.type_id from spoor.field f join spoor.record_type t on t.id = f.type_id
      where format('%s.%s', t.schema_name, t.table_name) = $1 and f.column_name = 'bank_account'`,
    [fact.table],
  )
  // By hand: groups of saves of one run in which that field changed within a year.
  const [past] = await spoor<{ times: number }>(
    `select count(distinct s.run_id)::int as times from ledger.change c join ledger.save s on s.id = c.save_id
      where c.field_id = $1 and s.captured_at > now() - interval '365 days'`,
    [field!.id],
  )
  await page.goto(`${application}/changes?what=f${field!.id}&when=last30d@UTC`)
  await page.getByRole('link', { name: 'Watch this' }).click()
  const pane = page.getByRole('form', { name: 'A new watch' })
  await expect(pane.getByText(/bank account of contractors/)).toBeVisible()
  await expect(pane.getByText(/^It would have fired/)).toContainText(
    past!.times === 1 ? 'once' : `${past!.times} times`,
  )
  await page.getByLabel('Mail addresses').fill('treasurer@larkmere.example')
  await axeFindsNothing(page)
  await choose(page, 'Which programs are told', 'The receiver')
  await page.getByRole('button', { name: 'Watch from now on' }).click()
  const row = page.getByRole('link', {
    name: /Tell Maud Ollerton, treasurer@larkmere\.example and The receiver at \d+ at once when there are changes to bank account of contractors/,
  })
  await expect(row).toContainText('not fired yet')
})

test('what comes is on Today and in the mail, from which it is one press to the save', async () => {
  const { table } = readJson<Incident[]>('west', 'incidents.json').find((one) => one.name === 'bankAccount')!
  const [contractor] = await query<{ id: number; name: string }>(
    databases.business,
    `select id, name from ${table} order by id limit 1`,
  )
  const hidden = 'LM99 0000 7777'
  await query(databases.business, `update ${table} set bank_account = $1 where id = $2`, [hidden, contractor!.id])
  await page.goto(`${application}/today`)
  const told = page.getByRole('region', { name: 'What watches tell you' })
  await expect(told.getByRole('link', { name: new RegExp(`${contractor!.name}: .*bank account`) })).toBeVisible({
    timeout: 30_000,
  })
  await expect
    .poll(async () => (await mails()).filter((one) => one.to.includes('treasurer@larkmere.example')).length)
    .toBe(1)
  const mail = (await mails()).find((one) => one.to.includes('treasurer@larkmere.example'))!
  expect(mail.subject).toContain('bank account')
  expect(mail.text).not.toContain(hidden)

  const { page: receiverPage } = demo('west').receiver
  const posted = async () =>
    (await (await fetch(`${receiverPage}messages.json`)).json()) as { signed: boolean; body: string }[]
  await expect.poll(async () => (await posted()).map((one) => one.signed)).toEqual([true])
  expect((await posted())[0]!.body).not.toContain(hidden)

  // Straight to the save, past the sign-in.
  const link = /http\S+\/changes\?save=\d+/.exec(mail.text)![0]
  const stranger = await (await page.context().browser()!.newContext()).newPage()
  await stranger.goto(link)
  const { login, password } = demo('west').signIns['reviewer']!
  await stranger.getByLabel('Name').fill(login)
  await stranger.getByLabel('Password').fill(password)
  await stranger.getByRole('button', { name: 'Sign in' }).click()
  await expect(stranger.getByRole('button', { name: 'Rehearse a revert' })).toBeVisible()
  await expect(stranger.getByText(contractor!.name).first()).toBeVisible()
  // And to the rehearsal of what sets it back.
  await stranger.goto(/To set it back: (\S+)/.exec(mail.text)![1]!)
  await expect(stranger.getByText('1 change in 1 save')).toBeVisible()
  await stranger.getByRole('button', { name: 'Draft and rehearse' }).click()
  await expect(stranger.getByText('rehearsal, nothing is written yet')).toBeVisible()
  await expect(stranger.locator('[data-group=clear]')).toContainText('1 is clear')
  await stranger.close()

  await told.getByRole('button', { name: 'Read' }).first().click()
  await expect(told).toHaveCount(0)
  await page.goto(`${application}/watches`)
  await page.getByRole('link', { name: /bank account of contractors/ }).click()
  await expect(page.getByRole('region', { name: 'What it sent' })).toContainText('mail taken')
  await page.getByRole('button', { name: 'Send a trial' }).click()
  await expect(page.getByRole('region', { name: 'What it sent' })).toContainText('a trial: nothing happened')
  await axeFindsNothing(page)

  // What is changed of it is held against what it would have done before.
  const past = page.getByRole('region', { name: 'Tried on the past year' })
  await expect(past).toContainText('It would have fired')
  await expect(past).not.toContainText('As it stands')
  await choose(page, 'When it fires', 'more saves together than a number')
  await expect(past).toContainText('It would not have fired.')
  await expect(past).toContainText(/As it stands, (once|\d+ times)\. It would fire no more on \d+ days?: /)
})

test('a missing import is watched for, and a watch is silenced with a reason', async () => {
  await page.goto(`${application}/watches?watch=new&who=k.import`)
  await choose(page, 'When it fires', 'what should have come and did not')
  const pane = page.getByRole('form', { name: 'A new watch' })
  await expect(pane.getByText(/^It would (not )?have fired/)).toBeVisible()
  await page.getByRole('button', { name: 'Watch from now on' }).click()
  await expect(
    page.getByRole('link', { name: /when by 06:00, Mondays to Fridays but not on holidays, there are no/ }),
  ).toBeVisible()
  await page.getByRole('button', { name: 'Silence' }).click()
  await page.getByLabel('Why it is silenced').fill('the bank is closed')
  await page.getByRole('button', { name: 'Mute: it fires and tells nobody' }).click()
  await expect(page.getByRole('link', { name: /muted: the bank is closed/ })).toBeVisible()
  await page.getByRole('button', { name: 'Take away' }).click()
  await page.getByRole('button', { name: 'Take the watch away' }).click()
  await expect(page.getByRole('link', { name: /when by 06:00/ })).toHaveCount(0)
})

test('a watch adds up what a number moved by, and one tells each day what Today shows', async () => {
  const uplift = readJson<Incident[]>('west', 'incidents.json').find((one) => one.name === 'uplift')!
  const [field] = await spoor<{ id: number }>(
    `select f.id from spoor.field f join spoor.record_type t on t.id = f.type_id
      where format('%s.%s', t.schema_name, t.table_name) = $1 and f.column_name = 'weekly_rent'`,
    [uplift.table],
  )
  // By hand: what the rent moved by in each run within a year, from the values alone.
  const runs = await spoor<{ total: string; saves: number }>(
    `select sum(abs(c.after::numeric - c.before::numeric))::text as total, count(*)::int as saves
       from ledger.change c join ledger.save s on s.id = c.save_id
      where c.field_id = $1 and c.before is not null and c.after is not null and s.captured_at > now() - interval '365 days'
      group by coalesce('r' || s.run_id, 's' || s.id)
     having sum(abs(c.after::numeric - c.before::numeric)) > 1000 order by max(s.captured_at) desc`,
    [field!.id],
  )
  await page.goto(`${application}/watches?watch=new&what=f${field!.id}`)
  await choose(page, 'When it fires', 'a number moves by more than an amount')
  await page.getByRole('textbox', { name: 'By more than' }).fill('1000')
  const past = page.getByRole('region', { name: 'Tried on the past year' })
  await expect(past).toContainText(runs.length === 1 ? 'fired once' : `fired ${runs.length} times`)
  const [last] = runs
  const [whole, part] = last!.total.split('.')
  await expect(past).toContainText(
    `${Number(whole).toLocaleString('en-GB')}${part ? `.${part}` : ''} in ${last!.saves.toLocaleString('en-GB')} saves`,
  )
  await page.getByRole('button', { name: 'Watch from now on' }).click()
  await expect(
    page.getByRole('link', {
      name: /when weekly rent moves by more than 1,000 in one run, all together, in changes to weekly rent of/,
    }),
  ).toBeVisible()

  await page.getByRole('link', { name: 'New watch' }).click()
  await choose(page, 'When it fires', 'each day: what Today shows')
  await expect(page.getByRole('region', { name: 'Tried on the past year' }).getByRole('link').first()).toContainText(
    /saves? by|Nothing was saved/,
  )
  await axeFindsNothing(page)
  await page.getByRole('button', { name: 'Watch from now on' }).click()
  const digest = page.getByRole('link', { name: /at 07:30, Mondays to Fridays but not on holidays, what Today shows/ })
  await expect(digest).toBeVisible()
  // Kept, it is opened as it was made.
  await digest.click()
  await expect(page.getByLabel('At what time it is told')).toHaveValue('07:30')

  await page.getByRole('region', { name: 'Holidays' }).getByRole('button', { name: 'Change' }).click()
  await page.getByLabel('Holidays, one a line').fill('2099-12-25 Christmas Day\nno day at all')
  await expect(page.getByText('This begins with no day: no day at all')).toBeVisible()
  await page.getByLabel('Holidays, one a line').fill('2099-12-25 Christmas Day')
  await page.getByRole('button', { name: 'Keep 1 day' }).click()
  await expect(page.getByRole('region', { name: 'Holidays' })).toContainText('25 December 2099, Christmas Day')
})
