import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { expect, type Page } from '@playwright/test'
import pg from 'pg'

export interface DemoFacts {
  application: string
  desk: string
  databases: { spoor: string; business: string }
  signIns: Record<string, { login: string; password: string }>
}

export function demo(): DemoFacts {
  return JSON.parse(readFileSync(join(process.env['SPOOR_E2E_DATA_DIR']!, 'demo.json'), 'utf8')) as DemoFacts
}

export async function signIn(page: Page, role = 'administrator'): Promise<void> {
  const { application, signIns } = demo()
  await page.goto(application)
  await page.getByLabel('Name').fill(signIns[role]!.login)
  await page.getByLabel('Password').fill(signIns[role]!.password)
  await page.getByRole('button', { name: 'Sign in' }).click()
  await expect(page).toHaveURL(/\/changes/)
}

/** One statement straight in the business database, as from a terminal. */
export async function inBusiness<R extends pg.QueryResultRow>(statement: string, values?: unknown[]): Promise<R[]> {
  const client = new pg.Client({ connectionString: demo().databases.business })
  await client.connect()
  try {
    return (await client.query<R>(statement, values)).rows
  } finally {
    await client.end()
  }
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
  await page.getByLabel('Reason').fill(reason)
  await page.getByRole('button', { name: 'Save' }).click()
  await expect(page.getByText(/^Saved/)).toBeVisible()
}

export function rows(page: Page) {
  return page.getByRole('grid', { name: 'Saves' }).locator('.row')
}

/** The problem notes and console errors that a page gave. */
export function listenForErrors(page: Page): string[] {
  const errors: string[] = []
  page.on('pageerror', (error) => errors.push(error.message))
  page.on('console', (message) => message.type() === 'error' && errors.push(message.text()))
  return errors
}
