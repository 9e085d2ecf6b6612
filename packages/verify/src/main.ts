#!/usr/bin/env node
import { createReadStream, existsSync, readFileSync } from 'node:fs'
import { open } from 'node:fs/promises'
import { parseArgs } from 'node:util'
import { checkPack, reportLines } from '@spoor/core'
import { packTools } from './pack-tools.ts'
import { verify, type Report } from './verify.ts'

const usage = `spoor-verify FILE [--key KEY] [--seal FILE]

Checks an evidence pack, or saves that were taken out of Spoor with their proofs. Needs neither Spoor nor a database.
  FILE         what Spoor gave: a pack (pack-17.zip), or saves “with proofs” (saves-….ndjson)
  --key KEY    the ledger's public key as one line, or a file with it; without it, the key in FILE is used
  --seal FILE  a seal that somebody kept, instead of the one in FILE; of saves only
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
    const { key: said, seal } = given.values
    const key = said !== undefined && existsSync(said) ? readFileSync(said, 'utf8') : said
    if (await isPack(file)) return await checkedPack(file, key)
    const report = await verify(createReadStream(file), {
      ...(key === undefined ? {} : { key }),
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

/** Whether it begins as an archive does, or is called one. */
async function isPack(file: string): Promise<boolean> {
  const handle = await open(file)
  try {
    const { buffer, bytesRead } = await handle.read(Buffer.alloc(2), 0, 2, 0)
    return file.endsWith('.zip') || (bytesRead === 2 && buffer.toString('latin1') === 'PK')
  } finally {
    await handle.close()
  }
}

async function checkedPack(file: string, key: string | undefined): Promise<number> {
  const handle = await open(file)
  try {
    const { size } = await handle.stat()
    const read = async (from: number, to: number) => {
      const bytes = Buffer.alloc(to - from)
      const { bytesRead } = await handle.read(bytes, 0, to - from, from)
      return new Uint8Array(bytes.buffer, bytes.byteOffset, bytesRead)
    }
    const report = await checkPack({ size, read }, packTools, { key, nowMs: Date.now() })
    console.log(reportLines(report).join('\n'))
    return { holds: 0, 'does not hold': 1, 'not proved': 2 }[report.verdict]
  } finally {
    await handle.close()
  }
}

process.exitCode = await main()
