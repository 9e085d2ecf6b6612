import { defineConfig } from '@playwright/test'

/** Those that work on the one Larkmere with a history; the others work on the other. */
const onEast = /(cases|columns|evidence|finding|records|undoing)\.spec\.ts$/

export default defineConfig({
  testDir: 'e2e',
  // A machine may be many times as slow for some minutes; how fast a page is is seen by benchmarks.
  timeout: 240_000,
  expect: { timeout: 20_000 },
  fullyParallel: false,
  workers: 2,
  // What works on one demo runs one after another, and beside what works on the other.
  projects: [
    { name: 'east', testMatch: onEast, workers: 1 },
    { name: 'west', testMatch: /\.spec\.ts$/, testIgnore: onEast, workers: 1 },
  ],
  reporter: process.env['SPOOR_E2E_REPORT']
    ? [['list'], ['json', { outputFile: process.env['SPOOR_E2E_REPORT'] }]]
    : 'list',
  globalSetup: './e2e/demo-process.ts',
  use: {
    viewport: { width: 1280, height: 800 },
    locale: 'en-GB',
    timezoneId: 'Europe/London',
    launchOptions: {
      executablePath: '/usr/bin/chromium',
      args: [
        '--no-sandbox',
        '--disable-gpu',
        '--disable-quic',
        '--no-first-run',
        '--disable-background-networking',
        '--disable-component-update',
        '--disable-sync',
      ],
    },
  },
})
