import { mkdir, rename, rm } from 'node:fs/promises'
import { basename, join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import {
  bagDeclaration,
  casesOf,
  coverRows,
  fromHex,
  grouped,
  howToCheck,
  keyLine,
  manifestText,
  packFiles,
  packStatementText,
  heldFieldsOf,
  lifeFieldsOf,
  parseWork,
  signedNote,
  counted,
  type PackCover,
  type Scope,
} from '@spoor/core'
import type { Role } from '@spoor/contract'
import type { Knex } from 'knex'
import { latestSeal, originOf } from '../custody/sealer.ts'
import type { SigningKey } from '../custody/signing-key.ts'
import { extentOf } from '../custody/tree.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { recordEvent } from '../ledger/events.ts'
import { currencyFieldsFor } from '../figures/currencies.ts'
import { workCsv, workSheet, workTable } from '../figures/table.ts'
import { atMomentOf, heldFields, keepRead } from '../scope/held.ts'
import { requestedScopes } from '../scope/request.ts'
import { blackedScopesOf, closingsOf, type BlackedScope } from './closings.ts'
import { sha256 } from '../ledger/sha256.ts'
import { People } from '../people/people.ts'
import type { JobRow } from '../work/jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import type { TimeAuthority } from '../custody/authority.ts'
import { besideTable } from './beside.ts'
import { firstPage, namesOfFields, sealedUnder } from './first-page.ts'
import { csvFile, demandWorkbook, mostOnPaper, pdfFile, workbook, type BesideFile, type TableWanted } from './tables.ts'
import { csvMetadata, savesSchema, tableMetadata } from './schemas.ts'
import { saidOf, saidWords } from './said.ts'
import { packedSaves, type SavesTold } from './saves.ts'
import { packRow, type PackRow } from './store.ts'
import { holdPacks, packPath, removeWithdrawn } from './withdraw.ts'
import { PackWriter } from './writer.ts'

export interface PackingDeps {
  db: Database
  /** Where the files of packs are kept. */
  directory: string
  key: SigningKey
  /** Who stamps packs with the time; null where nobody is set. */
  authority: TimeAuthority | null
  /** So long at most the next seal is waited for, so that everything in the pack is covered by one. */
  sealWithinMs?: number
}

export const packsDirectory = (dataDir: string) => join(dataDir, 'packs')

const usualWaitMs = 90_000
const lookEveryMs = 500

/** Whether a pack is being made: it waits for a seal of all that was there when it was asked for. */
export async function packWantsSeal(db: Database): Promise<boolean> {
  return (await db('spoor.pack').where({ state: 'going' }).first('id')) !== undefined
}

/** Makes packs: what is asked for, its first page, proofs and signature, in one file. Of one that was stopped or failed nothing is kept but why. */
export class Packing implements JobHandler {
  readonly kind = 'packing'
  readonly #deps: PackingDeps

  constructor(deps: PackingDeps) {
    this.#deps = deps
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const { db, directory } = this.#deps
    const { packId } = job.input as { packId: number }
    const person = job.askedBy === null ? null : await new People(db).find(job.askedBy)
    if (!person)
      throw new Problem('not-allowed', 'Whoever asked for the pack may not sign in any more. It was not made.')
    const row = await packRow(db, person, packId)
    if (row.state === 'kept') return { words: 'It had been made before the server stopped.' }
    await this.#waitForSeal(job)
    const scopes = await requestedScopes(db, row.scope, person, { waits: true })
    const out = await blackedScopesOf(db, row.blacked_scopes, person, { waits: true })
    await mkdir(directory, { recursive: true, mode: 0o700 })
    const [path, part] = [packPath(directory, packId), `${packPath(directory, packId)}.part`]
    const writer = new PackWriter(part, `pack-${packId}`)
    try {
      const work = row.work === null ? null : parseWork(row.work)
      const currencies = await currencyFieldsFor(db, work, scopes)
      const isPivot = work?.form === 'pivot'
      const fields = [
        ...heldFields([...scopes, ...out.flatMap((one) => one.scopes)]),
        ...heldFieldsOf(work),
        ...(isPivot ? currencies : []),
      ]
      await keepRead(db, [...lifeFieldsOf(work), ...(isPivot ? [] : currencies)], 'spoor.life')
      // One moment of the ledger, whatever is collected meanwhile.
      const { cover, saveIds, erased } = await atMomentOf(db, fields, (trx) =>
        this.#write(trx, writer, {
          row,
          scopes,
          out,
          role: person.role,
          job,
          page: (nowMs) => firstPage({ db, moment: trx }, row, { person, scopes, nowMs }),
        }),
      )
      const { size, digest } = await writer.end()
      await rename(part, path)
      await db.transaction(async (trx) => {
        await holdPacks(trx)
        if ((await erasedIn(trx, saveIds)) !== erased) throw new Error('values of it were erased while it was made')
        await trx('spoor.pack')
          .where({ id: packId })
          .update({
            state: 'kept',
            made_at: cover.madeAt,
            cover: JSON.stringify(cover),
            size,
            digest,
            save_ids: saveIds,
          })
        await recordEvent(trx, {
          kind: 'export',
          personId: person.id,
          words: `made pack ${packId} of ${counted(saveIds.length, 'save')} (digest ${digest})`,
        })
      })
      return { words: `Pack ${packId} is made: ${grouped(size)} bytes.` }
    } catch (error) {
      await writer.abandon()
      await Promise.all([part, path].map((file) => rm(file, { force: true })))
      throw error
    }
  }

  async due(): Promise<void> {
    await removeWithdrawn(this.#deps.db, this.#deps.directory)
  }

  async afterwards(db: Database, { input }: JobRow, _: 'stopped' | 'failed', words: string): Promise<void> {
    const { packId } = input as { packId: number }
    await db('spoor.pack').where({ id: packId, state: 'going' }).update({ state: 'failed', failed_why: words })
  }

  /** Waits until a seal covers what was collected by now; where none comes, what it does not cover is said to be so. */
  async #waitForSeal(job: JobAtWork): Promise<void> {
    const { db, sealWithinMs = usualWaitMs } = this.#deps
    const { size } = await extentOf(db)
    const untilMs = performance.now() + sealWithinMs
    while (Number((await latestSeal(db))?.size ?? 0) < size && performance.now() < untilMs) {
      await job.progress({ doing: 'waiting for the next seal' })
      await sleep(lookEveryMs)
    }
  }

  async #write(
    trx: Knex.Transaction,
    writer: PackWriter,
    {
      row,
      scopes,
      out,
      role,
      job,
      page,
    }: {
      row: PackRow
      scopes: readonly Scope[]
      out: readonly BlackedScope[]
      role: Role
      job: JobAtWork
      page(nowMs: number): Promise<Omit<PackCover, 'number' | 'authority' | 'closed' | 'unsealed' | 'files'>>
    },
  ): Promise<{ cover: PackCover; saveIds: string[]; erased: number }> {
    const nowMs = Date.now()
    const begin = await page(nowMs)
    if (row.shown.includes('xlsx')) demandWorkbook(begin.holds.changes)
    const closings = await closingsOf(trx, row, { scopes, out, nowMs })
    const told: SavesTold = { saveIds: [], changes: 0, unsealed: 0, closed: new Map() }
    const { seal, keyLine: line } = await sealedUnder(trx)
    const total = begin.holds.saves
    await writer.add(
      packFiles.saves,
      packedSaves(
        trx,
        {
          scopes,
          nowMs,
          seal,
          keyLine: line,
          closings,
          onProgress: (done) => job.progress({ done, total, doing: 'putting saves and their proofs in' }),
        },
        told,
      ),
    )
    await writer.add('data/saves-schema.json', [`${JSON.stringify(savesSchema, null, 1)}\n`])
    const files: PackCover['files'] = [
      { name: packFiles.saves, what: 'every save with what proves it; what is checked' },
    ]
    const table: TableWanted = { scopes, nowMs, columns: row.columns, zone: row.zone, closings }
    if (row.shown.includes('csv')) {
      await job.progress({ doing: 'writing the CSV' })
      await writer.add('data/changes.csv', csvFile(trx, table))
      await writer.add('data/changes.csv-metadata.json', [
        `${JSON.stringify(csvMetadata(row.columns, row.zone), null, 1)}\n`,
      ])
      files.push({ name: 'data/changes.csv', what: 'the changes, a line each, for a spreadsheet' })
    }
    if (row.shown.includes('xlsx')) {
      await job.progress({ doing: 'writing the workbook' })
      await writer.add('data/changes.xlsx', [await workbook(trx, table)])
      files.push({ name: 'data/changes.xlsx', what: 'the same as a workbook: numbers and days are such' })
    }
    const tables: BesideFile[] = []
    if (row.work !== null) {
      await job.progress({ doing: 'working out the figures' })
      const work = parseWork(row.work)!
      const worked = await workTable(
        trx,
        scopes,
        { work, zone: row.zone, closed: new Set(closings.fields.keys()) },
        nowMs,
      )
      tables.push({ name: 'data/worked-out', title: `what was worked out: ${worked.title}`, table: worked })
    }
    for (const [at, beside] of row.beside.entries()) {
      await job.progress({ doing: 'reading what stands beside the changes' })
      const read = await besideTable(trx, beside, { scopes, role, nowMs, zone: row.zone, closings })
      tables.push({ name: `data/beside-${at + 1}`, title: read.title, table: read })
    }
    for (const { name, title, table: own } of tables) {
      await writer.add(`${name}.csv`, [workCsv(own)])
      const metadata = tableMetadata(basename(`${name}.csv`), own)
      await writer.add(`${name}.csv-metadata.json`, [`${JSON.stringify(metadata, null, 1)}\n`])
      files.push({ name: `${name}.csv`, what: title })
      if (!row.shown.includes('xlsx')) continue
      await writer.add(`${name}.xlsx`, [await workSheet(own, row.zone)])
      files.push({ name: `${name}.xlsx`, what: 'the same as a workbook' })
    }
    const said = row.said ? await saidOf(trx, told.saveIds, casesIn(scopes[0])) : []
    if (said.length > 0) {
      await writer.add('data/said.json', [`${JSON.stringify(said, null, 1)}\n`])
      files.push({ name: 'data/said.json', what: `what was said of them: ${saidWords(said)}` })
    }
    const cover: PackCover = {
      ...begin,
      number: row.id,
      authority: row.stamped ? (this.#deps.authority?.name ?? null) : null,
      closed: await closedWords(trx, told),
      unsealed: told.unsealed,
      // A save may be in it of which nothing that was asked for changed.
      holds: { ...begin.holds, saves: told.saveIds.length, changes: told.changes },
      files,
    }
    if (row.shown.includes('pdf')) {
      files.push({ name: 'data/pack.pdf', what: 'the first page and the changes, to be read on paper' })
      await writer.add(
        'data/pack.pdf',
        pdfFile(trx, { ...table, cover, said, tables }, (done) =>
          job.progress({ done, total: Math.min(begin.holds.changes, mostOnPaper), doing: 'setting the pages' }),
        ),
      )
    }
    await writer.add(packFiles.cover, [`${JSON.stringify(cover, null, 1)}\n`])
    await writer.add('data/read-me.txt', [readMe(cover)])
    await job.progress({ doing: 'signing it' })
    await this.#seal(writer, cover, line)
    return { cover, saveIds: told.saveIds, erased: await erasedIn(trx, told.saveIds) }
  }

  /** The bag's own files and the signature. */
  async #seal(writer: PackWriter, cover: PackCover, line: string | null): Promise<void> {
    const { number, holds, madeAt, title, authority: asked } = cover
    const payload = [...writer.digests].filter(([name]) => name.startsWith('data/'))
    await writer.add(packFiles.bag, [bagDeclaration])
    await writer.add(packFiles.info, [
      `Bagging-Date: ${madeAt.slice(0, 10)}\nExternal-Identifier: pack ${number}\nExternal-Description: ${title.replace(/\s+/g, ' ')}\nSpoor-Saves: ${holds.saves}\n`,
    ])
    await writer.add(packFiles.manifest, [manifestText(payload)])
    const tags = [...writer.digests].filter(([name]) => !name.startsWith('data/'))
    const tagManifest = manifestText(tags)
    await writer.add(packFiles.tagManifest, [tagManifest])
    const { db, key, authority } = this.#deps
    if (asked !== null) await writer.add(packFiles.timeStamp, [await authority!.stamp(Buffer.from(tagManifest))])
    const named = key.named(await originOf(db))
    if (line !== null && line !== keyLine(sha256, named))
      throw new Problem(
        'pack-not-there',
        'The signing key in the data directory is not the one that seals the ledger. No pack was made. See Custody.',
      )
    const text = packStatementText({
      origin: named.name,
      number,
      ...writer.soFar(),
      manifest: fromHex(writer.digests.get(packFiles.tagManifest)!)!,
      at: new Date().toISOString(),
    })
    await writer.add(packFiles.signature, [signedNote(sha256, text, named, key.sign(text))])
  }
}

/** The cases that a scope asks for; of those that it leaves out nothing is told. */
function casesIn(scope: Scope | undefined): readonly number[] {
  return scope?.state && !scope.state.exclude ? casesOf(scope.state) : []
}

/** How many values of some saves were erased. */
async function erasedIn(db: Knex, saveIds: readonly string[]): Promise<number> {
  const [row] = await db('ledger.erased')
    .whereRaw('save_id = any(?::bigint[])', [boundArray(saveIds)])
    .count<{ count: string }[]>('* as count')
  return Number(row!.count)
}

async function closedWords(db: Knex, { closed }: SavesTold): Promise<PackCover['closed']> {
  const all = [...closed.values()].sort((a, b) => b.values - a.values || a.fieldId - b.fieldId)
  const names = await namesOfFields(
    db,
    all.map(({ fieldId }) => fieldId),
  )
  return all.map(({ fieldId, why, values }) => ({ what: names.get(fieldId)!, why, values }))
}

/** The first page for whoever has nothing to read the others with. */
function readMe(cover: PackCover): string {
  const rows = coverRows(cover).map(({ name, words }) => `${name.padEnd(14)}${words.join(`\n${' '.repeat(14)}`)}`)
  return [
    `Evidence pack ${cover.number}: ${cover.title}`,
    '',
    cover.sentence,
    '',
    ...rows,
    '',
    'How to check this yourself',
    ...howToCheck(cover),
    '',
    'What is in it',
    ...cover.files.map(({ name, what }) => `${name}: ${what}`),
    '',
  ].join('\n')
}
