import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { AxeBuilder } from '@axe-core/playwright'
import { expect, type Page } from '@playwright/test'
import pg from 'pg'

export const root = join(import.meta.dirname, '..')
/** Two that have their history, so that half of the tests need not wait for the other half, and one that is yet to be set up. */
export type DemoName = 'blank' | 'east' | 'west'

export function dataDirOf(name: DemoName): string {
  return join(root, `.spoor-e2e-${name}`)
}

export interface DemoFacts {
  application: string
  desk: string
  receiver: { hook: string; page: string }
  mailroom: { smtp: string; page: string }
  clockOffice: { url: string; certificate: string }
  staffList: { url: string; base: string; bindName: string; password: string }
  databases: { spoor: string; business: string }
  signIns: Record<string, { login: string; password: string }>
}

export function readJson<T>(name: DemoName, file: string): T {
  return JSON.parse(readFileSync(join(dataDirOf(name), file), 'utf8')) as T
}

export function demo(name: DemoName = 'blank'): DemoFacts {
  return readJson(name, 'demo.json')
}

export async function signIn(
  page: Page,
  role = 'administrator',
  name: DemoName = 'blank',
  next = '/changes',
): Promise<void> {
  const { application, signIns } = demo(name)
  await page.goto(`${application}/sign-in?next=${next}`)
  await page.getByLabel('Name').fill(signIns[role]!.login)
  await page.getByLabel('Password').fill(signIns[role]!.password)
  await page.getByRole('button', { name: 'Sign in' }).click()
  await expect(page.getByRole('navigation', { name: 'Stages' })).toBeVisible()
}

export async function query<R extends pg.QueryResultRow>(
  url: string,
  statement: string,
  values?: unknown[],
): Promise<R[]> {
  const client = new pg.Client({ connectionString: url, options: '-c timezone=UTC' })
  await client.connect()
  try {
    return (await client.query<R>(statement, values)).rows
  } finally {
    await client.end()
  }
}

/** One statement straight in the business database, as from a terminal. */
export function inBusiness<R extends pg.QueryResultRow>(statement: string, values?: unknown[]): Promise<R[]> {
  return query<R>(demo().databases.business, statement, values)
}

export async function deskSignIn(page: Page, officer: string): Promise<void> {
  await page.goto(demo().desk)
  await page.getByLabel('Officer').selectOption(officer)
  await page.getByRole('button', { name: 'Sign in' }).click()
}

/** Changes one record at the desk as the officer signed in there. */
export async function deskEdit(page: Page, path: string, values: Record<string, string>, reason = ''): Promise<void> {
  await page.goto(`${demo().desk}/${path}`)
  for (const [label, value] of Object.entries(values)) await page.getByLabel(label, { exact: true }).fill(value)
  await page.getByLabel('Reason', { exact: true }).fill(reason)
  await page.getByRole('button', { name: 'Save' }).click()
  await expect(page.getByText(/^Saved/)).toBeVisible()
}

export function rows(page: Page) {
  return page.getByRole('grid', { name: 'Saves' }).locator('.row')
}

/** Chooses in one of Ant Design Vue's selects, whose shown value lies over what takes the focus. */
export async function choose(page: Page, label: string, option: string): Promise<void> {
  const combobox = page.getByRole('combobox', { name: label, exact: true })
  await page.locator('.ant-select').filter({ has: combobox }).click()
  await page.locator('.ant-select-dropdown:visible .ant-select-item-option').filter({ hasText: option }).click()
}

/** The problem notes and console errors that a page gave. */
export function listenForErrors(page: Page): string[] {
  const errors: string[] = []
  page.on('pageerror', (error) => errors.push(error.message))
  // With the address: of a refused request the browser says only that it was refused.
  page.on(
    'console',
    (message) => message.type() === 'error' && errors.push(`${message.text()} ${message.location().url}`),
  )
  return errors
}

/** Nothing that keeps somebody from using the page as it stands (WCAG 2, levels A and AA). */
export async function axeFindsNothing(page: Page): Promise<void> {
  // What is being loaded anew is faded on purpose.
  await expect(page.locator('.stale')).toHaveCount(0)
  const { violations } = await new AxeBuilder({ page }).withTags(['wcag2a', 'wcag2aa']).analyze()
  const found = violations.map(
    ({ id, nodes }) =>
      `${id}: ${nodes
        .map((node) => node.html)
        .join(' ')
        .slice(0, 300)}`,
  )
  expect(found).toEqual([])
}
