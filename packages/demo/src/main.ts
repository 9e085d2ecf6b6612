import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import {
  addApplication,
  addReceiver,
  connect,
  endApplication,
  listApplications,
  listReceivers,
  People,
  renewSecret,
  sealsFacts,
  Vault,
  type Database,
} from '@spoor/server'
import { roleNames } from '@spoor/contract'
import { startApplication } from './application.ts'
import { Receiver } from './receiver/receiver.ts'
import { Mailroom } from './mailroom/mailroom.ts'
import { ClockOffice } from './clock-office/clock-office.ts'
import { Desk } from './desk/desk.ts'
import { deskTables } from './desk/forms.ts'
import type { History } from './history/generate.ts'
import { loadBusiness, loadedSoFar, loadHistory, makeHistory, markBlank, progress, seed } from './history/load.ts'
import { declaringLogins, staffCsv } from './larkmere/staff.ts'
import { NightJobs } from './night-jobs/night-jobs.ts'
import { demoPeople } from './people.ts'
import { demandFree, freePort } from './set-up/ports.ts'
import { businessGrants, demoNames, ensureDatabases, urlOf } from './set-up/databases.ts'
import { readSecrets, staffListPassword, type LoginName } from './set-up/secrets.ts'
import { StaffList, staffListBase, staffListBindName } from './staff-list/staff-list.ts'
import { staffOf } from './staff-list/staff-entry.ts'

export interface DemoOptions {
  /** The cluster as a superuser. */
  clusterUrl: string
  /** Whether others may have databases on it too. */
  sharedCluster: boolean
  dataDir: string
  port: number
  /** A tenth of the records and the history. */
  small: boolean
  /** Nothing tracked yet and no history. */
  blank: boolean
  reset: boolean
  /** Live saves a minute; 0 for none. */
  rate: number
  say(line: string): void
}

export interface RunningDemo {
  stop(): Promise<void>
  /** Resolves when the application ends by itself, which it should not. */
  ended: Promise<void>
}

const sourceName = 'Larkmere business database'
const administrator = demoPeople[0]!

/** Starts Larkmere, Spoor and the stand-ins on a running cluster and says where they are. */
export async function startDemo(options: DemoOptions): Promise<RunningDemo> {
  const { clusterUrl, dataDir, port, say } = options
  await demandFree(port)
  const secrets = readSecrets(dataDir)
  const names = demoNames(options.sharedCluster ? port : 4310)
  const urlAs = (login: LoginName, database = names.business) =>
    urlOf(clusterUrl, database, { name: names.role(login), password: secrets[login] })
  const businessUrl = urlOf(clusterUrl, names.business)
  const today = new Date().toISOString().slice(0, 10)

  const haveDatabases = async (afresh: boolean) => {
    await ensureDatabases(clusterUrl, names, secrets, afresh)
    // Seals that were kept of another ledger would say that this one had lost them.
    if (afresh) rmSync(join(dataDir, 'seals.ndjson'), { force: true })
  }
  await haveDatabases(options.reset)
  let state = await loadedSoFar(businessUrl)
  if (state === 'unfinished') {
    say('An earlier load of Larkmere was not finished; beginning it again.')
    await haveDatabases(true)
    state = 'nothing'
  }
  let history: History | null = null
  if (state === 'nothing') {
    say(
      options.small
        ? 'Making Larkmere, a tenth of its size'
        : 'Making Larkmere: about 5,000 homes and thirty months of history',
    )
    history = makeHistory({ small: options.small, until: today, say })
    writeFileSync(join(dataDir, 'staff.csv'), staffCsv(history.officers))
    writeFileSync(join(dataDir, 'incidents.json'), JSON.stringify(history.incidents, null, 2))
    await loadBusiness(businessUrl, names.role('larkmere_owner'), businessGrants(names), history)
    if (options.blank) await markBlank(businessUrl)
  }

  const spoorUrl = urlAs('spoor_app', names.spoor)
  const spoorOwnerUrl = urlAs('spoor_owner', names.spoor)
  const clockOffice = new ClockOffice(dataDir)
  const clockOfficeAddress = await clockOffice.listen(await freePort(port + 3))
  const mailroom = new Mailroom()
  const mailroomAt = await mailroom.listen(await freePort(port + 4), await freePort(port + 5))
  const witnessFolder = join(dataDir, 'witness')
  mkdirSync(witnessFolder, { recursive: true })
  const server = await startApplication({
    SPOOR_PORT: String(port),
    SPOOR_DATA_DIR: dataDir,
    SPOOR_DATABASE_URL: spoorUrl,
    SPOOR_OWNER_DATABASE_URL: spoorOwnerUrl,
    SPOOR_ERASURE_DATABASE_URL: urlAs('spoor_eraser', names.spoor),
    SPOOR_SOURCE_NAME: sourceName,
    SPOOR_SOURCE_URL: urlAs('spoor_source'),
    SPOOR_SOURCE_DECLARING_LOGINS: declaringLogins.map((login) => names.role(login)).join(','),
    SPOOR_DIRECTORY_FILE: join(dataDir, 'staff.csv'),
    SPOOR_TIME_STAMP_URL: clockOfficeAddress,
    SPOOR_WITNESS_FOLDERS: witnessFolder,
    SPOOR_WITNESS_MAIL: 'notary@larkmere.example',
    SPOOR_MAIL_URL: mailroomAt.smtp,
    SPOOR_MAIL_FROM: 'Spoor at Larkmere <spoor@larkmere.example>',
    SPOOR_LOG_LEVEL: process.env['SPOOR_LOG_LEVEL'] ?? 'warn',
  })
  const beforeCommit = sealsFacts(Vault.open(dataDir))
  const db = connect(spoorUrl, { applicationName: 'spoor demo', maxConnections: 1, own: true, beforeCommit })
  try {
    const people = new People(db)
    for (const person of demoPeople) await people.add(person)
    if (history && !options.blank) {
      const report = options.small ? () => undefined : progress(say, 'history written')
      await loadHistory(
        {
          sourceUrl: urlAs('spoor_source'),
          spoorUrl,
          spoorOwnerUrl,
          dataDir,
          sourceName,
          administratorLogin: administrator.login,
        },
        history,
        report,
      )
    }
    await collected(db, businessUrl, options.small ? () => undefined : progress(say, 'history collected'))
  } finally {
    await db.destroy()
  }

  const desk = new Desk(urlAs('desk_app'))
  const deskAddress = await desk.listen(await freePort(port + 1))
  desk.showTrails({ spoor: server.address, applicationKey: await letDeskIn(spoorUrl, beforeCommit, deskAddress) })
  const receiver = new Receiver()
  const receiverAt = await receiver.listen(await freePort(port + 6))
  receiver.secret = await letReceiverBeTold({ spoorUrl, beforeCommit, dataDir }, receiverAt.hook)
  const staffList = new StaffList(staffOf(readFileSync(join(dataDir, 'staff.csv'), 'utf8')), staffListPassword)
  const staffListAddress = await staffList.listen(await freePort(port + 2))
  const night =
    options.rate > 0
      ? new NightJobs({
          urlAs: (login) => urlAs(login),
          seed: seed + Math.floor(Date.now() / 60_000),
          perMinute: options.rate,
          onTrouble: (words) => say(`The night jobs met a problem and go on: ${words}`),
        })
      : null
  night?.start()

  const facts = {
    application: server.address,
    desk: deskAddress,
    mailroom: mailroomAt,
    receiver: receiverAt,
    clockOffice: { url: clockOfficeAddress, certificate: clockOffice.certificate },
    staffList: {
      url: staffListAddress,
      base: staffListBase,
      bindName: staffListBindName,
      password: staffListPassword,
    },
    databases: { spoor: urlOf(clusterUrl, names.spoor), business: businessUrl },
    signIns: Object.fromEntries(demoPeople.map(({ login, password, role }) => [role, { login, password }])),
  }
  writeFileSync(join(dataDir, 'demo.json'), JSON.stringify(facts, null, 2), { mode: 0o600 })
  say(`
  Spoor      ${server.address}
  The desk   ${deskAddress}   (a stand-in for the business application)
  The mailroom      ${mailroomAt.page}   (a stand-in for a mail server; what Spoor sends is read there)
  The receiver      ${receiverAt.page}   (a stand-in for a program that watches tell)
  The clock office  ${clockOfficeAddress}   (a stand-in for an authority that stamps packs with the time)
  The staff list  ${staffListAddress}   (a stand-in for a directory; below ${staffListBase}, as ${staffListBindName}, ${staffListPassword})
${night ? `  The night jobs play Larkmere’s day at about ${options.rate} saves a minute.\n` : ''}
  Sign in to Spoor as
${demoPeople.map((person) => `    ${person.login.padEnd(8)} ${person.password.padEnd(18)} ${roleNames[person.role]}`).join('\n')}

  Ctrl-C stops everything.`)
  return {
    ended: server.ended,
    stop: async () => {
      await night?.stop()
      await desk.close()
      await staffList.close()
      await server.stop()
      await clockOffice.close()
      await mailroom.close()
      await receiver.close()
    },
  }
}

/** The desk gets a key of its own each time it starts; the one before is ended. Its records' pages are known to Spoor. */
async function letDeskIn(
  spoorUrl: string,
  beforeCommit: NonNullable<Parameters<typeof connect>[1]['beforeCommit']>,
  origin: string,
): Promise<string> {
  const db = connect(spoorUrl, { applicationName: 'spoor demo', maxConnections: 1, own: true, beforeCommit })
  try {
    const { id } = await db('spoor.person').where({ login: administrator.login }).first<{ id: number }>('id')
    const name = 'The desk'
    for (const one of await listApplications(db))
      if (one.name === name && one.endedAt === null) await endApplication(db, one.id, id)
    for (const { table, path, asLines } of deskTables) {
      const [schema, relation] = table.split('.')
      if (!asLines)
        await db('spoor.record_type')
          .where({ schema_name: schema, table_name: relation })
          .update({ page_pattern: `${origin}/${path}/{1}` })
    }
    return (await addApplication(db, { name, origin }, id)).key
  } finally {
    await db.destroy()
  }
}

/** The receiver gets another secret each time it starts; watches that tell it go on. */
async function letReceiverBeTold(
  {
    spoorUrl,
    beforeCommit,
    dataDir,
  }: {
    spoorUrl: string
    beforeCommit: NonNullable<Parameters<typeof connect>[1]['beforeCommit']>
    dataDir: string
  },
  url: string,
): Promise<string> {
  const db = connect(spoorUrl, { applicationName: 'spoor demo', maxConnections: 1, own: true, beforeCommit })
  try {
    const { id } = await db('spoor.person').where({ login: administrator.login }).first<{ id: number }>('id')
    const vault = Vault.open(dataDir)
    const known = (await listReceivers(db)).find((one) => one.place === url)
    const { secret } = known
      ? await renewSecret({ db, vault }, known.id, id)
      : await addReceiver({ db, vault }, { name: `The receiver at ${new URL(url).port}`, url, inside: true }, id)
    return secret
  } finally {
    await db.destroy()
  }
}

/** Waits until the application has collected all that was captured. */
async function collected(db: Database, businessUrl: string, report: (share: number) => void): Promise<void> {
  const business = connect(businessUrl, { applicationName: 'spoor demo', maxConnections: 1 })
  try {
    let most = 0
    for (;;) {
      const { rows: there } = await business.raw<{ rows: { there: boolean }[] }>(
        `select to_regclass('spoor_capture.outbox') is not null as there`,
      )
      if (!there[0]?.there) return
      const { rows } = await business.raw<{ rows: { waiting: string }[] }>(
        'select count(*) as waiting from spoor_capture.outbox',
      )
      const waiting = Number(rows[0]!.waiting)
      most = Math.max(most, waiting)
      if (waiting === 0) break
      report(1 - waiting / most)
      await sleep(400)
    }
    if (most > 0) await db.raw('analyze ledger.save').catch(() => undefined)
  } finally {
    await business.destroy()
  }
}
