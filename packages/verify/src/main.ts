#!/usr/bin/env node
import { createReadStream, existsSync, readFileSync } from 'node:fs'
import { parseArgs } from 'node:util'
import { verify, type Report } from './verify.ts'

const usage = `spoor-verify FILE [--key KEY] [--seal FILE]

Checks saves that were taken out of Spoor with their proofs. Needs neither Spoor nor a database.
  FILE         what Spoor gave (Custody, or a scope, “with proofs”)
  --key KEY    the ledger's public key as one line, or a file with it; without it, the key in FILE is used
  --seal FILE  a seal that somebody kept, instead of the one in FILE
Ends with 0 when everything holds, with 1 when something does not, with 2 when it could not be checked.`

function reportText({ saves, passed, failed, skipped, findings, fingerprint, checkpoint }: Report): string {
  const told = findings.map(
    ({ line, rule, words, outcome }) =>
      `${outcome.toUpperCase().padEnd(8)}${line === 0 ? 'the file' : `line ${line}`}, rule ${rule}: ${words}`,
  )
  const left = failed + skipped - findings.length
  return [
    ...told,
    ...(left > 0 ? [`and ${left} more`] : []),
    ...(checkpoint ? [`Seal of ${checkpoint.origin}, ${checkpoint.at}, over ${checkpoint.size} saves.`] : []),
    ...(fingerprint ? [`Key fingerprint: ${fingerprint}`] : []),
    `${saves} saves; ${passed} checks passed, ${failed} failed, ${skipped} skipped.`,
    failed > 0 ? 'DOES NOT HOLD' : checkpoint ? 'HOLDS' : 'NOT PROVED',
  ].join('\n')
}

async function main(): Promise<number> {
  let given: {
    values: { key?: string | undefined; seal?: string | undefined; help?: boolean | undefined }
    positionals: string[]
  }
  try {
    given = parseArgs({
      options: { key: { type: 'string' }, seal: { type: 'string' }, help: { type: 'boolean' } },
      allowPositionals: true,
    })
  } catch (error) {
    console.error(`${(error as Error).message}\n\n${usage}`)
    return 2
  }
  const [file, ...more] = given.positionals
  if (given.values.help || !file || more.length > 0) {
    console.error(usage)
    return given.values.help ? 0 : 2
  }
  try {
    const { key, seal } = given.values
    const report = await verify(createReadStream(file), {
      ...(key === undefined ? {} : { key: existsSync(key) ? readFileSync(key, 'utf8') : key }),
      ...(seal === undefined ? {} : { seal: readFileSync(seal, 'utf8') }),
      nowMs: Date.now(),
    })
    console.log(reportText(report))
    return report.failed > 0 ? 1 : report.checkpoint ? 0 : 2
  } catch (error) {
    console.error(`It could not be read: ${(error as Error).message}`)
    return 2
  }
}

process.exitCode = await main()
