import { expect, test, type Page } from '@playwright/test'
import type { Incident, IncidentName } from '@spoor/demo'
import { axeFindsNothing, demo, listenForErrors, choose, query, readJson, rows, signIn } from './demo.ts'

/** Somebody finds and explains what happened at Larkmere, in as few acts as they can. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
const application = () => demo('east').application
const incident = (name: IncidentName) =>
  readJson<Incident[]>('east', 'incidents.json').find((one) => one.name === name)!
test.beforeAll(async ({ browser }) => {
  const context = await browser.newContext()
  await context.grantPermissions(['clipboard-read', 'clipboard-write'])
  page = await context.newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'east')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

const scope = () => page.getByRole('group', { name: 'Scope' })
const tail = () => page.locator('.bar .tail')
async function ask(words: string) {
  await page.keyboard.press('Escape')
  await page.keyboard.press('/')
  await page.getByLabel('Find, or ask in plain words').fill(words)
}
async function show(words: string) {
  await ask(words)
  await expect(page.getByRole('listbox').getByRole('option').first()).toBeVisible()
  await page.keyboard.press('Enter')
  await expect(page.getByLabel('Find, or ask in plain words')).toHaveValue('')
}
const read = (title: string) => page.getByRole('tab', { name: title, exact: true }).click()
const day = (instant: string) => new Date(instant).toLocaleDateString('en-CA', { timeZone: 'Europe/London' })

test('plain words become an exact sentence, and what is not understood stays underlined and narrows nothing', async () => {
  await page.goto(`${application()}/changes`)
  await expect(rows(page).first()).toBeVisible()
  await ask('bank acount of contractors by Oona since 1 January 2020, purple')
  await expect(page.locator('.meaning .unknown')).toHaveText('purple')
  await expect(page.locator('.meaning .guessed')).toHaveText('bank acount')
  await expect(
    page.getByText('Changes to bank account of contractors by Oona Marchetti, from 1 January 2020 on (Europe/London).'),
  ).toBeVisible()
  await axeFindsNothing(page)
  await page.keyboard.press('Enter')
  await expect(page.locator('.meaning .unknown')).toHaveText('purple')
  await expect(scope()).toContainText(
    'Changes to bank account of contractors by Oona Marchetti, from 1 January 2020 on',
  )
  await page.keyboard.press('Escape')
  const fact = incident('bankAccount')
  await expect(rows(page)).toHaveCount(fact.counts['saves']!)
})

test('words that could mean several people are given back to choose from', async () => {
  const [twice] = await query<{ word: string }>(
    demo('east').databases.spoor,
    `select lower(split_part(name, ' ', 2)) as word from spoor.actor where kind = 'person' and name like '% %' and same_as is null group by 1 having count(*) > 1 limit 1`,
  )
  await ask(`deposit by ${twice!.word}`)
  await expect(page.locator('.meaning .ambiguous')).toBeVisible()
  await expect(page.getByText(/could be .* or .*; say which/)).toBeVisible()
  await page.getByRole('button', { name: 'Close', exact: true }).click()
})

test('who changed this, when, and what else did they change, in three acts', async () => {
  // One: ask. Two: open the save. Three: who, in the sentence.
  await show('unit price by tariq lindqvist rose by more than 10 %')
  const fact = incident('unitPrices')
  await expect(scope()).toContainText('that rose by more than 10 %')
  await expect(tail()).toHaveText(new RegExp(`^\\s*${fact.counts['saves']} saves`))
  await rows(page).first().click()
  const pane = page.getByRole('complementary', { name: 'the opened save' })
  await expect(pane).toContainText('Tariq Lindqvist')
  await expect(pane).toContainText(/followed from it: amount/i)
  await show('tariq lindqvist')
  await expect(scope()).toContainText('Changes to anything tracked by Tariq Lindqvist, at any time.')
})

test('one scope in every reading counts the same', async () => {
  const fact = incident('terminal')
  await page.goto(`${application()}/changes?who=k.unknown`)
  await expect(tail()).toContainText(`${fact.counts['saves']} saves`)
  await read('Changes')
  await expect(page.getByRole('table', { name: 'Changes' }).getByRole('row')).toHaveCount(fact.counts['saves']! + 1)
  await axeFindsNothing(page)
  await read('Days')
  const days = page.getByRole('treeitem')
  await expect(days).toHaveCount(1)
  await expect(days.first()).toContainText(`${fact.counts['saves']} saves`)
  await days.first().getByRole('button').first().click()
  await expect(days.nth(1)).toContainText(`${fact.counts['saves']} saves`)
  await days.nth(1).getByRole('button').first().click()
  await expect(days.nth(2)).toContainText('Tenancy')
  await axeFindsNothing(page)
  await read('Records')
  await expect(page.getByRole('row')).toHaveCount(fact.records.length + 1)
  await axeFindsNothing(page)
  await read('Over time')
  await expect(page.getByRole('img', { name: /Saves over time/ })).toBeVisible()
  await axeFindsNothing(page)
  await read('Who × what')
  await expect(page.getByRole('row').nth(1)).toContainText('5')
  await axeFindsNothing(page)
})

test('what is unusual for somebody stands out, with what is usual', async () => {
  const fact = incident('delegate')
  const until = day(new Date(Date.parse(fact.until) - 1000).toISOString())
  await page.goto(`${application()}/changes?reading=pairs&when=${day(fact.from)}..${until}@Europe/London`)
  const row = page.getByRole('row').filter({ hasText: 'Corvane Support' })
  await expect(row.locator('.stands')).toContainText(`${fact.counts['saves']}`)
  await expect(row.locator('.stands')).toContainText('never before')
  await row.locator('.stands').click()
  await expect(scope()).toContainText('Changes to tenancies by Corvane Support')
  await expect(rows(page)).toHaveCount(Math.min(fact.counts['saves']!, 24))
})

test('the ribbon is brushed by pointer and by keyboard, down to minutes, and back', async () => {
  await page.goto(`${application()}/changes`)
  const ribbon = page.getByRole('slider', { name: /Activity over time/ })
  await expect(ribbon.locator('rect').first()).toBeVisible()
  const box = (await ribbon.boundingBox())!
  await page.mouse.move(box.x + box.width * 0.5, box.y + 20)
  await page.mouse.down()
  await page.mouse.move(box.x + box.width * 0.6, box.y + 20, { steps: 5 })
  await page.mouse.up()
  await expect(scope()).toContainText(/, from \d+ \w+.* to \d+ \w+ 20\d\d \(Europe\/London\)\./)
  const fact = incident('uplift')
  await page.goto(`${application()}/changes?when=${day(fact.from)}..${day(fact.from)}@Europe/London`)
  await expect(ribbon.locator('rect').first()).toBeVisible()
  await ribbon.focus()
  for (let hour = 24; hour > 17; hour--) await page.keyboard.press('ArrowLeft')
  await expect(page.locator('.key')).toContainText(/save/)
  await page.keyboard.press('Enter')
  await expect(scope()).toContainText(/from 1\d:00 to 1\d:00/)
  await page.getByRole('button', { name: 'All time' }).click()
  await expect(scope()).toContainText('at any time')
})

test('values, how, reasons and states narrow, and are turned round where they stand', async () => {
  await page.goto(`${application()}/changes?who=k.unknown&runs=apart`)
  await page.getByRole('button', { name: 'Narrow further' }).click()
  await page.getByRole('button', { name: 'Values', exact: true }).click()
  await page.getByLabel('Condition on the value').selectOption('to')
  await page.getByLabel('Value', { exact: true }).fill('0.00')
  await page.getByRole('button', { name: 'Add' }).click()
  await page.keyboard.press('Escape')
  await expect(scope()).toContainText('to “0.00”')
  await expect(rows(page)).toHaveCount(incident('terminal').counts['saves']!)
  await page.getByRole('button', { name: 'Narrow further' }).click()
  await page.getByRole('button', { name: 'Reason', exact: true }).click()
  await page.getByRole('button', { name: 'None was given' }).click()
  await page.keyboard.press('Escape')
  await expect(scope()).toContainText('without a reason')
  await expect(rows(page)).toHaveCount(incident('terminal').counts['saves']!)
  await page.getByRole('button', { name: 'Narrow further' }).click()
  await page.getByRole('button', { name: 'How', exact: true }).click()
  await page.getByRole('checkbox', { name: 'Through direct SQL' }).check()
  await page.getByRole('button', { name: 'Everything but these instead' }).click()
  await page.keyboard.press('Escape')
  await expect(scope()).toContainText('not through direct SQL')
  await expect(page.getByText('No changes in this scope.')).toBeVisible()
})

test('saves are marked reviewed with one key, and the sentence asks for what is left', async () => {
  await page.goto(`${application()}/changes?who=k.unknown&runs=apart`)
  const count = incident('terminal').counts['saves']!
  await expect(rows(page)).toHaveCount(count)
  await page.keyboard.press('m')
  await expect(rows(page).first()).toContainText('reviewed')
  await page.getByRole('button', { name: 'Narrow further' }).click()
  await page.getByRole('button', { name: 'What became of it' }).click()
  await page.getByRole('checkbox', { name: 'Reviewed' }).check()
  await page.getByRole('button', { name: 'Everything but these instead' }).click()
  await page.keyboard.press('Escape')
  await expect(scope()).toContainText('not reviewed')
  await expect(rows(page)).toHaveCount(count - 1)
  await rows(page).first().click()
  const pane = page.getByRole('complementary', { name: 'the opened save' })
  await pane.getByRole('button', { name: 'Flag' }).click()
  await expect(pane.getByRole('button', { name: 'Take the flag off' })).toBeVisible()
  await pane.getByRole('button', { name: 'Copy as text' }).click()
  await expect(pane.getByRole('button', { name: 'Copied' })).toBeVisible()
  expect(await page.evaluate(() => navigator.clipboard.readText())).toMatch(
    /^Tenancy \d+ · .+ · .+, save \d+\n.*\ndeposit: [\d.]+ → 0\.00/,
  )
})

test('a scope is kept under a name, shared, opened by somebody else, and not told to who sees a part only', async ({
  browser,
}) => {
  await page.goto(`${application()}/changes?who=k.unknown`)
  await page.getByRole('button', { name: 'Kept scopes' }).click()
  await page.getByLabel('Keep this scope as').fill('Nobody knows who')
  await page.locator('.kept form').getByRole('checkbox', { name: 'shared' }).check()
  await page.getByRole('button', { name: 'Keep', exact: true }).click()
  await expect(page.getByRole('button', { name: 'Nobody knows who' }).first()).toBeVisible()
  const other = await (await browser.newContext()).newPage()
  await signIn(other, 'reviewer', 'east')
  await other.getByRole('button', { name: 'Kept scopes' }).click()
  await other.getByRole('button', { name: 'Nobody knows who' }).click()
  await expect(other.getByRole('group', { name: 'Scope' })).toContainText('by unknown actors')
  await expect(rows(other).first()).toBeVisible()
  await other.close()
  const contributor = await (await browser.newContext()).newPage()
  await signIn(contributor, 'contributor', 'east')
  await contributor.getByRole('button', { name: 'Kept scopes' }).click()
  await expect(contributor.getByLabel('Keep this scope as')).toBeVisible()
  await expect(contributor.getByRole('button', { name: 'Nobody knows who' })).toHaveCount(0)
  await contributor.close()
})

test('a long text is told apart word by word', async () => {
  const [notes] = await query<{ id: string }>(
    demo('east').databases.spoor,
    `select c.save_id as id from ledger.change c join spoor.field f on f.id = c.field_id join ledger.save s on s.id = c.save_id
      where f.column_name = 'notes' and s.action = 'change' and length(c.before) > 80 and length(c.after) > 80 limit 1`,
  )
  await page.goto(`${application()}/changes?save=${notes!.id}`)
  const pane = page.getByRole('complementary', { name: 'the opened save' })
  await expect(pane.locator('ins, del').first()).toBeVisible()
  await axeFindsNothing(page)
})

test('who is asked for as people say it, and a whole transaction from any of its saves', async () => {
  await page.goto(`${application()}/changes`)
  await expect(rows(page).first()).toBeVisible()
  await show('by whoever has left')
  await expect(scope()).toContainText('anything tracked by whoever has left')
  await expect(page).toHaveURL(/who=left/)
  const countOf = async (condition: string) => {
    const [row] = await query<{ saves: number }>(
      demo('east').databases.spoor,
      `select count(*)::int as saves from ledger.save s join spoor.actor a on a.id = s.actor_id
         left join spoor.actor k on k.id = a.same_as where ${condition}`,
    )
    expect(row!.saves).toBeGreaterThan(5)
    return new RegExp(`^${row!.saves.toLocaleString('en-GB')} saves`)
  }
  await expect(tail()).toHaveText(await countOf('coalesce(k.left_on, a.left_on) <= current_date'))
  await scope().getByRole('button', { name: 'whoever has left' }).click()
  await page.getByRole('checkbox', { name: 'Anyone of finance' }).check()
  await page.getByRole('checkbox', { name: 'Whoever has left' }).uncheck()
  await page.keyboard.press('Escape')
  await expect(scope()).toContainText('by anyone of finance')
  await expect(page).toHaveURL(/who=u\.finance/i)
  await expect(tail()).toHaveText(await countOf(`coalesce(k.unit, a.unit) = 'finance'`))
  await axeFindsNothing(page)

  const fact = incident('deletedTenant')
  const on = day(fact.from)
  await page.goto(`${application()}/changes?how=delete&when=${on}..${on}@Europe/London&runs=apart`)
  await rows(page).first().click()
  const pane = page.getByRole('complementary', { name: 'the opened save' })
  await pane.getByRole('link', { name: 'Show all of it' }).first().click()
  await expect(scope()).toContainText(/in the transaction of save \d+/)
  await expect(tail()).toContainText(`${fact.counts['saves']} saves`)
})

test('changes are asked for by what the record held then, and holds now', async () => {
  const [field] = await query<{ id: number; rent: number; typeId: number }>(
    demo('east').databases.spoor,
    `select f.id, f.type_id as "typeId", (select r.id from spoor.field r where r.type_id = f.type_id and r.column_name = 'weekly_rent') as rent
       from spoor.field f join spoor.record_type t on t.id = f.type_id where t.table_name = 'tenancy' and f.column_name = 'officer_id'`,
  )
  // By another hand: the last change of the officer until then, of a deletion what it took, or else the first one after it, or else what was found.
  const officers = await query<{ officer: string; name: string; saves: number; now: number }>(
    demo('east').databases.spoor,
    `with rent as (select c.save_id, c.captured_at, c.record_key from ledger.change c where c.field_id = ${field!.rent}),
       held as (select r.*, case when last.save_id is not null then case l.action when 'delete' then last.before else last.after end
                                 when next.save_id is not null then next.before
                                 else (select f.vals::json ->> (array_position(t.field_ids, ${field!.id}) - 1)
                                         from ledger.found f join spoor.taking t on t.id = f.taking_id
                                        where f.type_id = ${field!.typeId} and f.record_key = r.record_key order by f.at limit 1) end as officer,
         (select s.vals -> '${field!.id}' ->> 0 from spoor.standing s where s.type_id = ${field!.typeId} and s.record_key = r.record_key
            and s.deleted is null) as now
         from rent r
         left join lateral (select * from ledger.change o where o.field_id = ${field!.id} and o.record_key = r.record_key
            and (o.captured_at, o.save_id) <= (r.captured_at, r.save_id) order by o.captured_at desc, o.save_id desc limit 1) last on true
         left join ledger.save l on l.id = last.save_id
         left join lateral (select * from ledger.change o where o.field_id = ${field!.id} and o.record_key = r.record_key
            and (o.captured_at, o.save_id) > (r.captured_at, r.save_id) order by o.captured_at, o.save_id limit 1) next on true)
     select k.officer, l.label as name, count(*) filter (where h.officer = k.officer)::int as saves,
            count(*) filter (where h.now = k.officer)::int as now
       from held h cross join (select distinct officer from held where officer is not null) k
       join spoor.record l on l.label is not null and l.record_key = json_build_array(k.officer)::text
       join spoor.field f on f.id = ${field!.id} and f.refers_to = l.type_id group by 1, 2`,
  )
  // Somebody whose tenancies went to others, so that then and now are different.
  const officer = officers.toSorted((a, b) => Math.abs(b.saves - b.now) - Math.abs(a.saves - a.now))[0]!
  expect(officer.saves).not.toBe(officer.now)
  const saves = (many: number) => new RegExp(`^\\s*${many.toLocaleString('en-GB')} saves?`)
  await page.goto(`${application()}/changes`)
  await expect(rows(page).first()).toBeVisible()
  await show(`changes to weekly rent on tenancies whose officer was ${officer.name}`)
  await expect(scope()).toContainText(
    `Changes to weekly rent of tenancies on tenancies whose officer id was “${officer.name}” by anyone`,
  )
  await expect(tail()).toHaveText(saves(officer.saves))
  // The same now, by the editor.
  await scope()
    .getByRole('button', { name: /whose officer id was/ })
    .click()
  const values = page.getByRole('list', { name: 'Values' })
  await values.getByRole('checkbox', { name: officer.name }).click()
  await expect(scope()).not.toContainText('whose')
  await page.keyboard.press('Escape')
  await page.getByRole('button', { name: 'Narrow further' }).click()
  await page.getByRole('button', { name: 'What records held' }).click()
  await page.getByLabel('Field', { exact: true }).fill('officer')
  await page.keyboard.press('Enter')
  await choose(page, 'Then or now', 'is now')
  await values.getByRole('checkbox', { name: officer.name }).check()
  await expect(scope()).toContainText(`on tenancies whose officer id is now “${officer.name}”`)
  await expect(tail()).toHaveText(saves(officer.now))
  await axeFindsNothing(page)
  await page.keyboard.press('Escape')
  // And each officer's in a pivot, which leads back to the sentence.
  await page.goto(
    `${application()}/changes?what=f${field!.rent}&reading=work&work=pivot;rows=held.${field!.id};columns=;top=50`,
  )
  const line = page.getByRole('row').filter({ has: page.getByRole('rowheader', { name: officer.name, exact: true }) })
  await expect(line.getByRole('cell').last()).toHaveText(officer.saves.toLocaleString('en-GB'))
  await line.getByRole('cell').last().getByRole('button').click()
  await expect(scope()).toContainText(`whose officer id was “${officer.name}”`)
})

test('what has to be read first is waited for, tells how far it is, and is not waited for any longer elsewhere', async ({
  browser,
}) => {
  const own = await (await browser.newContext()).newPage()
  await signIn(own, 'reviewer', 'east')
  const [field] = await query<{ id: number }>(
    demo('east').databases.spoor,
    `select f.id from spoor.field f join spoor.record_type t on t.id = f.type_id where t.table_name = 'tenancy' and f.column_name = 'status'`,
  )
  let isRead = false
  // As the server answers while it reads a larger history than there is here.
  const answer = {
    ...{ type: 'urn:spoor:problem:being-read', code: 'being-read', title: 'Still being read', status: 503 },
    detail: 'Reading what status of tenancies held.',
    progress: { jobId: 999_999, words: 'Reading what status of tenancies held', done: 41_000, total: 82_000 },
  }
  await own.route(/\/api\/v1\/.*holds/, (route) =>
    isRead ? route.fallback() : route.fulfill({ status: 503, contentType: 'application/problem+json', json: answer }),
  )
  const reading = own.getByRole('status', { name: 'Being read' })
  const asked = `${application()}/changes?holds=f${field!.id}.now.active`
  await own.goto(asked)
  await expect(reading).toContainText('Reading what status of tenancies held: 41,000 of 82,000 saves')
  await axeFindsNothing(own)
  // Whoever goes elsewhere does not wait any more.
  await own.getByRole('link', { name: 'Today', exact: true }).click()
  await expect(reading).toHaveCount(0)
  await own.goto(asked)
  await expect(reading).toBeVisible()
  await reading.getByRole('button', { name: 'Stop' }).click()
  await expect(own.getByText('Still being read').first()).toBeVisible()
  await expect(reading).toHaveCount(0)
  await own.goto(asked)
  await expect(reading).toBeVisible()
  isRead = true
  await expect(rows(own).first()).toBeVisible()
  await expect(reading).toHaveCount(0)
  await own.close()
})

test('what was done in Spoor is asked for in a sentence, too', async () => {
  await page.goto(`${application()}/changes?reading=around`)
  const around = page.getByRole('group', { name: 'What was done in Spoor' })
  await expect(around).toContainText('In Spoor itself: anything by anybody, with any outcome, in any words.')
  await around.getByRole('button', { name: 'anything' }).click()
  await page.getByRole('button', { name: 'sign-in', exact: true }).click()
  await around.getByRole('button', { name: 'in any words' }).click()
  await page.getByLabel('Words in it').fill('signed in')
  await page.keyboard.press('Escape')
  await expect(around).toContainText('In Spoor itself: sign-in by anybody, with any outcome, with “signed in” in it.')
  await expect(page.getByText('signed in').first()).toBeVisible()
  await around.getByRole('button', { name: 'Clear all' }).click()
  await expect(around).toContainText('In Spoor itself: anything')
  await axeFindsNothing(page)
})

test('times are told in the zone that somebody chose, until they choose another', async ({ browser }) => {
  const own = await (await browser.newContext({ timezoneId: 'Europe/London' })).newPage()
  await signIn(own, 'approver', 'east', '/changes?who=k.unknown&runs=apart')
  await expect(own.locator('.bar .tail')).toContainText('Europe/London')
  const time = () => rows(own).first().locator('.mono').first().innerText()
  const before = await time()
  const chooseZone = async (zone: string) => {
    const combobox = own.getByRole('combobox', { name: 'The zone in which times are told' })
    await own.locator('.ant-select').filter({ has: combobox }).click()
    await own.keyboard.type(zone)
    await own.keyboard.press('Enter')
  }
  await own.getByRole('button', { name: /^Signed in as/ }).click()
  await chooseZone('Asia/Tokyo')
  await expect(own.locator('.bar .tail')).toContainText('Asia/Tokyo')
  await expect(rows(own).first()).toBeVisible()
  const minutes = (text: string) => Number(text.slice(0, 2)) * 60 + Number(text.slice(3, 5))
  expect([480, 540]).toContain((minutes(await time()) - minutes(before) + 1440) % 1440)
  await own.getByRole('button', { name: /^Signed in as/ }).click()
  await chooseZone('that of this browser')
  await expect(own.locator('.bar .tail')).toContainText('Europe/London')
  expect(await time()).toBe(before)
  await own.close()
})
