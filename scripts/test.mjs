#!/usr/bin/env node
import { spawn, spawnSync } from 'node:child_process'
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { ensureBuilt, prepare, root } from './lib/prepare.mjs'
import { run, say } from './lib/say.mjs'

/** Everything that must hold: lint, types, core and server tests, and the job done in a browser. Ends with a count. */

const reports = mkdtempSync(join(tmpdir(), 'spoor-test-'))
const failures = []
let passed = 0

function step(title, program, args, env = {}) {
  say(`\n── ${title}`)
  const { status } = spawnSync(program, args, {
    cwd: root,
    stdio: ['ignore', 'inherit', 'inherit'],
    env: { ...process.env, ...env },
  })
  return status === 0
}

/** Steps that hold or do not; they go on beside one another, and each says what it has to say when it has ended. */
function beside(title, args) {
  return new Promise((done) => {
    const child = spawn('npm', ['run', '--silent', ...args], { cwd: root, stdio: ['ignore', 'pipe', 'pipe'] })
    const said = []
    for (const stream of [child.stdout, child.stderr]) stream.on('data', (part) => said.push(part))
    child.on('close', (status) => {
      say(`\n── ${title}`)
      process.stdout.write(Buffer.concat(said))
      if (status === 0) passed++
      else failures.push(title)
      done()
    })
  })
}

/** A step that counts its own tests in a report; no report, or none passed, is a failure. */
function suite(title, args, report, env, count) {
  const ok = step(title, 'npx', args, env)
  const counts = existsSync(report) ? count(JSON.parse(readFileSync(report, 'utf8'))) : { passed: 0, failed: [] }
  passed += counts.passed
  failures.push(...counts.failed)
  if ((!ok && counts.failed.length === 0) || counts.passed === 0) failures.push(`${title} (see above)`)
}

function countVitest(report) {
  const tests = report.testResults.flatMap((file) => file.assertionResults)
  return {
    passed: tests.filter((one) => one.status === 'passed').length,
    failed: tests.filter((one) => one.status === 'failed').map((one) => one.fullName),
  }
}

function countPlaywright(report) {
  const specs = (suite) => [...(suite.specs ?? []), ...(suite.suites ?? []).flatMap(specs)]
  const all = report.suites.flatMap(specs)
  // A test that is skipped is reported as well as can be, and has shown nothing.
  const skipped = (spec) => spec.tests.every((one) => one.status === 'skipped')
  return {
    passed: all.filter((spec) => spec.ok && !skipped(spec)).length,
    failed: all.filter((spec) => !spec.ok || skipped(spec)).map((spec) => spec.title),
  }
}

run(async () => {
  prepare({ browser: true })
  ensureBuilt()
  await Promise.all([beside('Lint', ['lint']), beside('Types', ['types'])])
  const unit = join(reports, 'vitest.json')
  suite(
    'Core and server',
    ['vitest', 'run', '--reporter=default', '--reporter=json', `--outputFile.json=${unit}`],
    unit,
    {},
    countVitest,
  )
  const end = join(reports, 'playwright.json')
  suite('In the browser', ['playwright', 'test'], end, { SPOOR_E2E_REPORT: end }, countPlaywright)
  rmSync(reports, { recursive: true })
  for (const failure of failures) say(`failed: ${failure}`)
  say(`\n${passed} passed, ${failures.length} failed`)
  process.exitCode = failures.length > 0 ? 1 : 0
})
