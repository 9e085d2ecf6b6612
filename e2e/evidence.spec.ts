import { execFileSync } from 'node:child_process'
import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { expect, test, type Page } from '@playwright/test'
import { unzipSync } from 'fflate'
import type { Incident } from '@spoor/demo'
import { axeFindsNothing, choose, demo, listenForErrors, query, readJson, root, signIn } from './demo.ts'

/** What somebody hands over: the bank account that went away and came back, made into a pack and proved elsewhere. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
let pack: string
let link: string
const application = () => demo('east').application
const spoor = <R extends object>(statement: string, values?: unknown[]) =>
  query<R & Record<string, unknown>>(demo('east').databases.spoor, statement, values)

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext({ acceptDownloads: true })).newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'east')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

test('what is on the screen becomes a pack, with its first page beside it while it is made up', async ({
  browserName: _,
}, info) => {
  const fact = readJson<Incident[]>('east', 'incidents.json').find((one) => one.name === 'bankAccount')!
  const [type] = await spoor<{ id: number }>(
    `select id from spoor.record_type where format('%s.%s', schema_name, table_name) = $1`,
    [fact.table],
  )
  const key = fact.records[0]!
  const [there] = await spoor<{ changes: number; saves: number }>(
    `select count(*)::int as changes, count(distinct save_id)::int as saves from ledger.change where type_id = $1 and record_key = $2`,
    [type!.id, key],
  )
  await page.goto(`${application()}/changes?record=t${type!.id}:${encodeURIComponent(key)}`)
  await page.getByRole('button', { name: 'Export' }).click()
  await page.getByRole('link', { name: 'Make an evidence pack' }).click()
  await expect(page.getByText(`${there!.changes} changes in ${there!.saves} saves`).first()).toBeVisible()
  await expect(page.getByRole('button', { name: 'Make the pack' })).toBeDisabled()
  await page.getByLabel('for', { exact: true }).fill('Audit committee')
  await page.getByLabel('why').fill('The account was changed and changed back')
  const paper = page.getByRole('article', { name: 'The first page' })
  await expect(paper.getByRole('heading', { name: 'Audit committee' })).toBeVisible()
  // The field that is named is left out of the page at once, and said to be.
  const holder = page.getByRole('checkbox', { name: /account holder of/ })
  if (await holder.count()) {
    await holder.check()
    await page.getByLabel(/^Why account holder/).fill('a private person')
    await expect(paper).toContainText('blacked out: a private person')
  }
  // So is what somebody did, with whatever else tells the same values.
  await page.getByRole('button', { name: /Black out a record, a person or a change/ }).click()
  const out = page.getByRole('list', { name: 'Changes that are blacked out' })
  await out.getByRole('button', { name: 'anyone' }).click()
  await page.getByRole('checkbox', { name: 'All people' }).click()
  await page.keyboard.press('Escape')
  await expect(page.getByRole('button', { name: 'Make the pack' })).toBeDisabled()
  await out.getByLabel('Why these changes are blacked out').fill('looked into by the police')
  await expect(out).toContainText(/^.*[1-9]\d* changes? in the pack/)
  await expect(paper).toContainText('blacked out: looked into by the police')
  await axeFindsNothing(page)
  await page.getByRole('button', { name: 'Make the pack' }).click()
  const take = page.getByRole('link', { name: 'Take the file' })
  await expect(take).toBeVisible({ timeout: 100_000 })
  const [download] = await Promise.all([page.waitForEvent('download'), take.click()])
  pack = join(info.outputDir, '..', `evidence-${download.suggestedFilename()}`)
  await download.saveAs(pack)
  await expect(page.getByText(/^Maud Ollerton, .*\d\d:\d\d:\d\d/).first()).toBeVisible()
  await page.getByRole('button', { name: 'Hand over' }).click()
  await page.getByLabel('For whom').fill('the bank')
  await page.getByRole('button', { name: 'Make the link' }).click()
  link = await page.getByText(/\/handed\//).innerText()
  await page.goto(`${application()}/evidence`)
  await expect(page.getByRole('row', { name: /Audit committee/ })).toContainText('once, last by Maud Ollerton')
  await axeFindsNothing(page)
})

test('records as they stand on the grid, and one at two moments, stand in packs beside the changes', async () => {
  const business = <R>(statement: string) =>
    query<R & Record<string, unknown>>(demo('east').databases.business, statement)
  const [type] = await spoor<{ id: number }>(`select id from spoor.record_type where table_name = 'tenancy'`)
  await page.goto(`${application()}/records/of/${type!.id}`)
  await page.getByRole('link', { name: 'Evidence …' }).click()
  const besides = page.getByRole('list', { name: 'beside them' })
  await expect(besides).toContainText(/Tenancies as they stood .* 20\d\d/)
  await page.getByLabel('for', { exact: true }).fill('The board')
  await page.getByLabel('why').fill('The tenancies as they are')
  await axeFindsNothing(page)
  await page.getByRole('button', { name: 'Make the pack' }).click()
  const take = page.getByRole('link', { name: 'Take the file' })
  await expect(take).toBeVisible({ timeout: 100_000 })
  await expect(page.getByText(/^Tenancies as they stood/)).toBeVisible()
  const [download] = await Promise.all([page.waitForEvent('download'), take.click()])
  const files = unzipSync(readFileSync(await download.path()))
  const csv = new TextDecoder().decode(files[Object.keys(files).find((name) => name.endsWith('beside-1.csv'))!])
  const [there] = await business<{ many: number }>('select count(*)::int as many from lettings.tenancy')
  expect(csv.trimEnd().split('\r\n')).toHaveLength(1 + there!.many)

  const [one] = await spoor<{ record_key: string }>(
    `select record_key from ledger.save where type_id = $1 and action = 'change' group by 1 order by count(*) desc limit 1`,
    [type!.id],
  )
  await page.goto(`${application()}/records/${type!.id}?key=${encodeURIComponent(one!.record_key)}`)
  await page.getByRole('link', { name: 'Evidence …' }).click()
  await expect(besides).toContainText(/Tenancy .* at two moments, A .* and B/)
  await besides.getByRole('button', { name: /^Leave out/ }).click()
  await expect(besides).toHaveCount(0)

  await page.goto(`${application()}/custody`)
  await page.getByRole('link', { name: 'Evidence …' }).click()
  await expect(besides).toContainText('How the ledger is kept')
})

test('somebody who is not signed in proves it in the browser, and the same is said by the command', async ({
  browser,
}) => {
  const [{ line }] = (await spoor<{ line: string }>(
    'select line from ledger.signing_key order by number desc limit 1',
  )) as [{ line: string }]
  const stranger = await (await browser.newContext()).newPage()
  try {
    await stranger.goto(link)
    const take = stranger.getByRole('link', { name: 'Take the file' })
    const [handed] = await Promise.all([stranger.waitForEvent('download'), take.click()])
    expect(readFileSync(await handed.path()).equals(readFileSync(pack))).toBe(true)
    await axeFindsNothing(stranger)
    const asked: string[] = []
    await stranger.goto(`${application()}/check`)
    await stranger.getByRole('heading', { name: 'Check a pack' }).waitFor()
    stranger.on('request', (request) => {
      if (request.method() !== 'GET') asked.push(request.url())
    })
    await stranger.getByLabel(/public key/).fill(line)
    await stranger.getByLabel('The pack to check').setInputFiles(pack)
    await expect(stranger.getByRole('heading', { name: 'It holds: nothing in this pack was altered' })).toBeVisible()
    await expect(stranger.getByLabel('What was found')).toContainText(/Time-stamped .* by The clock office, Larkmere/)
    await axeFindsNothing(stranger)
    const href = await stranger.getByRole('link', { name: 'The report as text' }).getAttribute('href')
    const said = decodeURIComponent(href!.slice(href!.indexOf(',') + 1)).trim()
    const command = execFileSync('node', [join(root, 'packages/verify/dist/main.js'), pack, '--key', line])
      .toString()
      .trim()
    expect(said).toBe(command)
    // And by OpenSSL, for which the manifest of tag files is the content and the office's own certificate is trusted.
    const files = unzipSync(readFileSync(pack))
    const parts = ['tagmanifest-sha256.txt', 'time-stamp.tsr'].map((name) => {
      const file = `${pack}.${name}`
      writeFileSync(file, Object.entries(files).find(([one]) => one.endsWith(`/${name}`))![1])
      return file
    })
    const { certificate } = demo('east').clockOffice
    execFileSync('openssl', ['ts', '-verify', '-data', parts[0]!, '-in', parts[1]!, '-CAfile', certificate])

    const altered = readFileSync(pack)
    const at = altered.length >> 1
    altered[at] = altered[at]! ^ 1
    const other = pack.replace('.zip', '-altered.zip')
    writeFileSync(other, altered)
    await stranger.getByLabel('The pack to check').setInputFiles(other)
    await expect(stranger.getByRole('heading', { name: 'It does not hold.' })).toBeVisible()
    await expect(stranger.getByText(/rule 20: The archive is not the one that was signed/)).toBeVisible()
    await stranger
      .getByLabel('The pack to check')
      .setInputFiles({ name: 'x.zip', mimeType: 'application/zip', buffer: Buffer.from('no pack') })
    await expect(stranger.getByText(/It is no pack, or was cut off/)).toBeVisible()
    expect(asked).toEqual([])
  } finally {
    await stranger.close()
  }
})

test('a pack is sent by mail, and made regularly, each of the month before', async ({ browser }) => {
  const mails = async (to: string) =>
    (
      (await (await fetch(`${demo('east').mailroom.page}mails.json`)).json()) as { to: string[]; text: string }[]
    ).filter((one) => one.to.includes(to))
  await page.goto(`${application()}/evidence`)
  await page.getByRole('link', { name: 'Audit committee' }).first().click()
  await page.getByRole('button', { name: 'Send' }).click()
  await page.getByLabel('To, with commas').fill('auditor@larkmere.example')
  await page.getByRole('button', { name: 'Send it' }).click()
  await expect(page.getByText(/to auditor@larkmere.example by Maud Ollerton: mail taken/)).toBeVisible({
    timeout: 20_000,
  })
  const [mail] = await mails('auditor@larkmere.example')
  const stranger = await (await browser.newContext()).newPage()
  await stranger.goto(/http\S+\/handed\/\S+/.exec(mail!.text)![0])
  await expect(stranger.getByText(/handed over by Maud Ollerton/)).toBeVisible()
  await stranger.close()

  const [field] = await spoor<{ id: number }>(
    `select f.id from spoor.field f join spoor.record_type t on t.id = f.type_id where f.column_name = 'weekly_rent' order by 1 limit 1`,
  )
  await page.goto(`${application()}/evidence/making?what=f${field!.id}&when=last7d@UTC`)
  await choose(page, 'When it is made', 'each month, of the month before')
  await page.getByLabel('for', { exact: true }).fill('The rent committee')
  await page.getByLabel('why').fill('asked for by the board')
  await expect(page.getByRole('button', { name: 'Make it regularly' })).toBeDisabled()
  await page.getByRole('button', { name: 'Leave the time out' }).click()
  await page.getByLabel('Mail addresses that each is sent to').fill('board@larkmere.example')
  await axeFindsNothing(page)
  await page.getByRole('button', { name: 'Make it regularly' }).click()
  const regular = page.getByRole('region', { name: 'Made regularly' })
  await expect(regular).toContainText('Each month on the 1st at 06:00, or the next working day, of the month before')
  await expect(regular).toContainText('none made yet')
  await axeFindsNothing(page)
  // As if it had been asked for six weeks ago: its turn has come since, once or twice.
  await spoor(`update spoor.regular_pack set until_at = now() - interval '40 days'`)
  await expect(page.getByRole('row', { name: /The rent committee, \d{4}-\d\d-01 to / }).first()).toBeVisible({
    timeout: 60_000,
  })
  await expect.poll(async () => (await mails('board@larkmere.example')).length, { timeout: 100_000 }).toBeGreaterThan(0)
  await regular.getByRole('button', { name: 'End' }).click()
  await page.getByRole('button', { name: 'End it' }).click()
  await expect(regular).toHaveCount(0)
})
