import { expect, test, type Page } from '@playwright/test'
import type { Incident, IncidentName } from '@spoor/demo'
import { axeFindsNothing, demo, listenForErrors, query, readJson, rows, signIn } from './demo.ts'

/** A record tells its whole story: what it held at any moment, who set it, and what is not known. */
test.describe.configure({ mode: 'serial' })

let page: Page
let errors: string[]
const application = () => demo('east').application
const incident = (name: IncidentName) =>
  readJson<Incident[]>('east', 'incidents.json').find((one) => one.name === name)!
const typeOf = async (table: string) =>
  (
    await query<{ id: number }>(
      demo('east').databases.spoor,
      `select id from spoor.record_type where table_name = $1`,
      [table],
    )
  )[0]!.id
const lane = (field: string) =>
  page.locator('.lanes .row').filter({ has: page.getByRole('button', { name: field, exact: true }) })
const moments = () => page.getByLabel('Two moments')
const rowOf = (field: string) => moments().getByRole('row').filter({ hasText: field })

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage()
  errors = listenForErrors(page)
  await signIn(page, 'administrator', 'east')
})
test.afterAll(() => page.close())
test.afterEach(() => expect(errors.splice(0)).toEqual([]))

async function open(table: string, key: string) {
  await page.goto(`${application()}/records/${await typeOf(table)}?key=${encodeURIComponent(key)}`)
  await expect(page.getByLabel('The story')).toBeVisible()
}

test('is found by its name, and tells of the bank account there and back', async () => {
  const [key] = incident('bankAccount').records
  const [contractor] = await query<{ label: string }>(
    demo('east').databases.spoor,
    `select label from spoor.record where type_id = $1 and record_key = $2`,
    [await typeOf('contractor'), key],
  )
  await page.goto(`${application()}/records`)
  await expect(page.getByRole('listitem').first()).toBeVisible()
  await page.getByLabel('Find a record').fill(contractor!.label)
  await page.getByRole('link', { name: `Contractor ${contractor!.label}`, exact: true }).click()
  await expect(page.getByRole('heading', { level: 1 })).toHaveText(contractor!.label)
  await expect(lane('bank account').locator('.joint').last()).toBeVisible()
  await page.getByRole('button', { name: 'Versions' }).click()
  const versions = page.getByLabel('The story').getByRole('listitem')
  const changes = versions.filter({ hasText: 'bank account' })
  await expect(changes.first()).toContainText('Oona Marchetti')
  // The Friday's save beside the one before it.
  await changes.nth(1).getByRole('button').first().click()
  await expect(rowOf('bank account')).toHaveClass(/differs/)
  const [before, changed] = [
    await rowOf('bank account').getByRole('cell').nth(0).innerText(),
    await rowOf('bank account').getByRole('cell').nth(1).innerText(),
  ]
  expect(changed).not.toBe(before)
  expect(await rowOf('bank account').getByRole('cell').nth(2).innerText()).toBe(before)
  await expect(moments().getByText('bank account · ')).toContainText('by Oona Marchetti')
  await axeFindsNothing(page)
})

test('a deleted one is found and stands as it last was', async () => {
  const [key] = incident('deletedTenant').records
  await open('tenant', key!)
  await expect(page.getByText(/^\s*deleted · /)).toBeVisible()
  await expect(moments().getByRole('row').nth(1).getByRole('cell').nth(2)).toHaveText('no record')
  await expect(moments().getByText(/fields differ between A and B/)).toBeVisible()
})

const months = 'Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec'.split(' ')

test('what was not tracked is drawn as not known, and the gap is named', async () => {
  const { records, from } = incident('gap')
  const [key] = records
  await open('tenancy', key!)
  await expect(lane('deposit').locator('.unknown').first()).toBeVisible()
  // Larkmere's calendar follows today's date.
  const day = `${Number(from.slice(8, 10))} ${months[Number(from.slice(5, 7)) - 1]} ${from.slice(0, 4)}`
  await expect(page.getByText(new RegExp(`Tracking of deposit ended .* ${day}`))).toBeVisible()
})

test('what nobody changed since tracking began is known, as found', async () => {
  const [untouched] = await query<{ record_key: string; label: string }>(
    demo('east').databases.spoor,
    `select f.record_key, f.label from ledger.found f left join ledger.save s on s.type_id = f.type_id and s.record_key = f.record_key
      where f.type_id = $1 and s.id is null limit 1`,
    [await typeOf('home')],
  )
  await open('home', untouched!.record_key)
  await expect(page.getByRole('heading', { level: 1 })).toHaveText(untouched!.label)
  await expect(page.getByText('never changed since it is tracked')).toBeVisible()
  await expect(page.locator('.lanes .segment.found').first()).toBeVisible()
  await expect(page.getByText('as found when tracking began: known, and nobody’s change')).toBeVisible()
  await expect(moments().getByRole('row').nth(1).getByRole('cell').nth(2)).not.toHaveText('not known')
  await axeFindsNothing(page)
  const [key] = incident('gap').records
  await open('tenancy', key!)
})

test('the cursors go from save to save by the arrow keys, and the address keeps them', async () => {
  const b = page.getByRole('slider', { name: 'Moment B' })
  const before = await b.getAttribute('aria-valuenow')
  await b.focus()
  await page.keyboard.press('ArrowLeft')
  await expect(b).not.toHaveAttribute('aria-valuenow', before!)
  const chosen = new Date(Number(await b.getAttribute('aria-valuenow'))).toISOString()
  await expect(page).toHaveURL((url) => url.searchParams.get('b') === chosen)
  await page.reload()
  await expect(page.getByRole('slider', { name: 'Moment B' })).not.toHaveAttribute('aria-valuenow', before!)
  await axeFindsNothing(page)
})

test('an opened save leads to the whole story of its record', async () => {
  await page.goto(`${application()}/changes?runs=apart`)
  await rows(page).first().click()
  await page.getByRole('link', { name: 'The whole story' }).click()
  await expect(page.getByLabel('The story')).toBeVisible()
})

test('records of a type stand as the business has them, are found by name, and lead to their story', async () => {
  await page.goto(`${application()}/records`)
  await page.getByRole('navigation', { name: 'Records of a type' }).getByRole('link', { name: 'tenancies' }).click()
  const grid = page.getByRole('table', { name: 'Records as they stand' })
  await expect(page.getByText('to go.')).toHaveCount(0, { timeout: 60_000 })
  await expect(page.getByText('follow within moments')).toHaveCount(0, { timeout: 60_000 })
  const line = grid.getByRole('row').nth(1)
  const label = await line.getByRole('rowheader').innerText()
  const [held] = await query<{ rent: string; deposit: string; status: string }>(
    demo('east').databases.business,
    `select weekly_rent::text as rent, deposit::text, status::text from lettings.tenancy where id = split_part($1, ' · ', 1)::int`,
    [label],
  )
  for (const value of [held!.rent, held!.deposit, held!.status]) await expect(line).toContainText(value)
  await page.getByLabel('Only records whose name holds').fill(label)
  // It is the first without the name, too: only that it is alone tells that what was asked for is there.
  await expect(grid.getByRole('rowheader')).toHaveText([label])
  await axeFindsNothing(page)
  await grid.getByRole('link', { name: label, exact: true }).click()
  await expect(page.getByRole('heading', { level: 1 })).toHaveText(label)
})

/** The box in the bar, reached by its key. */
async function find(words: string) {
  await page.keyboard.press('Escape')
  await page.keyboard.press('/')
  await page.getByLabel('Find, or ask in plain words').fill(words)
}
const options = () => page.getByRole('listbox', { name: 'What that may mean' }).getByRole('option')

test('a record is found from anywhere by a value that it had, and leads to its story', async () => {
  const [had] = await query<{ value: string; label: string }>(
    demo('east').databases.spoor,
    `select c.before as value, r.label from ledger.change c join spoor.field f on f.id = c.field_id
       join spoor.record r on r.type_id = c.type_id and r.record_key = c.record_key
      where f.column_name = 'email' and c.before like '%@%' and not r.deleted
        and not exists (select from ledger.change o where o.field_id = c.field_id and o.record_key <> c.record_key and c.before in (o.before, o.after))
      order by c.save_id limit 1`,
  )
  await page.goto(`${application()}/today`)
  await expect(page.getByRole('heading', { level: 1 })).toBeVisible()
  await find(had!.value.toUpperCase())
  await expect(options().first()).toContainText('Record')
  await expect(options().first()).toContainText(`email was ${had!.value}`)
  await axeFindsNothing(page)
  await page.keyboard.press('Enter')
  await expect(page.getByRole('heading', { level: 1 })).toHaveText(had!.label)
  // It is at hand from then on.
  await find('')
  await expect(options().first()).toContainText(had!.label)
})

test('what is typed may mean a save, somebody, a field or a record type, and says which', async () => {
  await find('save 17')
  await expect(options().first()).toHaveText(/^Save\s*Save 17$/)
  await page.keyboard.press('Enter')
  await expect(page).toHaveURL(/changes\?save=17$/)
  await expect(page.getByRole('complementary', { name: 'the opened save' })).toBeVisible()
  await find('oona marchetti')
  await expect(options().filter({ hasText: 'everything they changed' })).toHaveCount(1)
  await find('deposit')
  await expect(options().first()).toContainText(/Field\s*deposit of tenancies/)
  await find('tenancies')
  await expect(options().first()).toContainText(/Record type\s*Tenancies/)
  await page.keyboard.press('Enter')
  await expect(page.getByRole('group', { name: 'Which records' })).toContainText('Tenancies as they stand now')
  await find('no such thing anywhere')
  await expect(page.getByText('Nothing is called so')).toBeVisible()
  await page.keyboard.press('Escape')
})

test('saves of its lines stand folded below, and are opened where they stand', async () => {
  const [tenancy] = await query<{ key: string; lines: string }>(
    demo('east').databases.spoor,
    `select s.parent_key as key, count(*) as lines from ledger.save s join spoor.record_type t on t.id = s.type_id
      where t.table_name = 'rent_account_entry' and s.parent_type_id = $1 group by 1 having count(*) between 3 and 40 order by 1 limit 1`,
    [await typeOf('tenancy')],
  )
  await open('tenancy', tenancy!.key)
  const fold = page.getByRole('button', { name: `rent account entries · ${tenancy!.lines}` })
  await expect(page.locator('.thread .point')).not.toHaveCount(0)
  await fold.click()
  const list = page.getByRole('list', { name: 'Saves below' })
  await expect(list.getByRole('listitem')).toHaveCount(Number(tenancy!.lines))
  await axeFindsNothing(page)
  await list.getByRole('button', { name: 'Open' }).first().click()
  await expect(page.getByRole('heading', { level: 2 })).toBeVisible()
  await fold.click()
  await expect(list).toHaveCount(0)
})

test('saves of records that refer to it are read when they are opened, and all of them are a scope', async () => {
  const [contractor] = await query<{ key: string; saves: number }>(
    demo('east').databases.spoor,
    `select json_build_array(h.who)::text as key, count(*)::int as saves from (
       select case when last.save_id is not null then case s.action when 'delete' then last.before else last.after end
                   when next.save_id is not null then next.before
                   else (select d.vals::json ->> (array_position(t.field_ids, f.id) - 1) from ledger.found d join spoor.taking t on t.id = d.taking_id
                          where d.type_id = s.type_id and d.record_key = s.record_key order by d.at limit 1) end as who
         from ledger.save s join spoor.field f on f.type_id = s.type_id and f.column_name = 'contractor_id'
         left join lateral (select * from ledger.change o where o.field_id = f.id and o.record_key = s.record_key
            and (o.captured_at, o.save_id) <= (s.captured_at, s.id) order by o.captured_at desc, o.save_id desc limit 1) last on true
         left join lateral (select * from ledger.change o where o.field_id = f.id and o.record_key = s.record_key
            and (o.captured_at, o.save_id) > (s.captured_at, s.id) order by o.captured_at, o.save_id limit 1) next on true
        where s.type_id = $1) h where h.who is not null group by 1 having count(*) between 5 and 150 order by 2 desc, 1 limit 1`,
    [await typeOf('repair_order')],
  )
  await open('contractor', contractor!.key)
  const fold = page.getByRole('button', { name: /repair orders by contractor id/ })
  await fold.click()
  await expect(fold).toHaveText(new RegExp(`repair orders by contractor id · ${contractor!.saves}`))
  const list = page.getByRole('list', { name: 'Saves below' })
  await expect(list.getByRole('listitem')).toHaveCount(contractor!.saves)
  await axeFindsNothing(page)
  await page.getByRole('link', { name: 'All of them in Changes' }).click()
  await expect(page.getByRole('group', { name: 'Scope' })).toContainText(
    /Changes to repair orders on repair orders whose contractor id was/,
  )
  await expect(page.locator('.bar .tail')).toHaveText(new RegExp(`^\\s*${contractor!.saves} saves`))
})

test('another record of the type is put beside it, at moments of their own', async () => {
  const [one, two] = await query<{ key: string; label: string; rent: string }>(
    demo('east').databases.spoor,
    `select record_key as key, label, vals -> (select id::text from spoor.field where column_name = 'weekly_rent') ->> 0 as rent
       from spoor.standing where type_id = $1 and deleted is null order by record_key limit 2`,
    [await typeOf('tenancy')],
  )
  await open('tenancy', one!.key)
  await page.getByRole('button', { name: 'Another record beside it' }).click()
  await page.getByLabel('Find a record to put beside it').fill(two!.label)
  await page.getByRole('button', { name: two!.label }).click()
  await expect(page.getByRole('heading', { level: 2 })).toContainText(two!.label)
  await expect(moments()).toContainText('B, the other')
  await expect(rowOf('weekly rent').getByRole('cell').nth(0)).toHaveText(one!.rent)
  await expect(rowOf('weekly rent').getByRole('cell').nth(1)).toHaveText(two!.rent)
  await expect(moments()).toContainText(`between ${one!.label} at A and ${two!.label} at B`)
  await axeFindsNothing(page)
  await page.getByRole('button', { name: 'Put it away' }).click()
  await expect(moments()).not.toContainText('B, the other')
})

test('records stand as they stood at any moment, what changed is marked, and a cell tells its past', async () => {
  const fact = incident('uplift')
  const tenancy = await typeOf('tenancy')
  const grid = page.getByRole('table', { name: 'Records as they stand' })
  const [corrected] = await query<{ label: string; wrong: string; right: string; between: string; after: string }>(
    demo('east').databases.spoor,
    `select r.label, c.before as wrong, c.after as right,
            to_char(c.captured_at - interval '1 second', 'YYYY-MM-DD"T"HH24:MI:SS"Z"') as between,
            to_char(c.captured_at + interval '1 second', 'YYYY-MM-DD"T"HH24:MI:SS"Z"') as after
       from ledger.change c join spoor.field f on f.id = c.field_id join spoor.record r on r.type_id = c.type_id and r.record_key = c.record_key
      where f.column_name = 'weekly_rent' and c.type_id = $1 and c.record_key = any($2) and c.captured_at > $3::timestamptz + interval '1 hour'
        and c.captured_at < $3::timestamptz + interval '20 days' order by c.captured_at limit 1`,
    [tenancy, fact.records, fact.from],
  )
  const number = corrected!.label.split(' · ')[0]!
  const cell = (text: string) => grid.getByRole('cell').filter({ hasText: text }).first()
  await page.goto(`${application()}/records/of/${tenancy}?words=${number}&at=${corrected!.between}&marks=none`)
  await expect(cell(corrected!.wrong)).toBeVisible()
  await page.goto(`${application()}/records/of/${tenancy}?words=${number}&at=${corrected!.after}&marks=30`)
  await expect(cell(corrected!.right)).toContainText('changed more than once')
  await expect(page.getByRole('group', { name: 'Which records' })).toContainText(
    'what changed in the preceding 30 days',
  )
  await cell(corrected!.right).click()
  const past = page.getByRole('complementary', { name: 'The cell’s past' })
  await expect(past.getByRole('heading')).toHaveText('weekly rent')
  await expect(past.getByRole('listitem').nth(1)).toContainText(corrected!.wrong)
  await axeFindsNothing(page)
  await page.keyboard.press('ArrowRight')
  await expect(past.getByRole('heading')).not.toHaveText('weekly rent')
  await page.keyboard.press('Escape')
  await expect(past).toHaveCount(0)
})

test('who was deleted in the marked time is named, and a condition leaves those it holds for', async () => {
  const fact = incident('deletedTenant')
  const tenant = await typeOf('tenant')
  const grid = page.getByRole('table', { name: 'Records as they stand' })
  const [gone] = await query<{ label: string }>(
    demo('east').databases.spoor,
    `select label from spoor.record where type_id = $1 and deleted and record_key = any($2)`,
    [tenant, fact.records],
  )
  const name = encodeURIComponent(gone!.label)
  const since = new Date(Date.parse(fact.from) - 3_600_000).toISOString()
  await page.goto(`${application()}/records/of/${tenant}?words=${name}&marks=${since}`)
  await expect(grid.getByText('what it held')).toBeVisible()
  await page.goto(`${application()}/records/of/${tenant}?words=${name}&at=${since}`)
  // Another may be called the same.
  await expect(grid.getByRole('rowheader').filter({ hasText: gone!.label }).first()).toBeVisible()
  await expect(grid.getByText('what it held')).toHaveCount(0)

  await page.goto(`${application()}/records/of/${await typeOf('tenancy')}`)
  await page.locator('[data-part=where]').click()
  await page.getByRole('combobox', { name: 'Field' }).fill('deposit')
  await page.keyboard.press('Enter')
  await page.getByLabel('Condition').selectOption('is')
  await page.getByLabel('Value').fill('0.00')
  await page.getByRole('button', { name: 'Add', exact: true }).click()
  await expect(page.getByRole('group', { name: 'Which records' })).toContainText('those whose deposit is 0.00')
  const [held] = await query<{ count: string }>(
    demo('east').databases.business,
    'select count(*) from lettings.tenancy where deposit = 0',
  )
  await expect(page.getByText(`${Number(held!.count).toLocaleString('en-GB')} records`)).toBeVisible()
})
