import { Counter, Gauge, Registry } from 'prom-client'
import { alarmCodes } from '@spoor/contract'
import { countAlarms } from '../alarms/alarms.ts'
import type { Database } from '../database/knex.ts'
import { readPulse } from './pulse.ts'

/** What a monitoring system asks for, read at the moment it asks. */
export async function metricsText(db: Database): Promise<{ type: string; text: string }> {
  const registry = new Registry()
  const pulse = await readPulse(db)
  const gauge = (name: string, help: string, labelNames: string[] = []) =>
    new Gauge({ name, help, labelNames, registers: [registry] })
  const behind = gauge(
    'spoor_collector_behind_seconds',
    'Age of the oldest captured row that is not yet in the ledger',
    ['source'],
  )
  const waiting = gauge('spoor_collector_waiting_rows', 'Captured rows that are not yet in the ledger, about', [
    'source',
  ])
  const trouble = gauge('spoor_collector_trouble', '1 when collecting from the source fails', ['source'])
  for (const source of pulse.sources) {
    behind.set({ source: source.name }, source.behindMs / 1000)
    waiting.set({ source: source.name }, source.waiting)
    trouble.set({ source: source.name }, source.trouble === null ? 0 : 1)
  }
  const collected = await db('ledger.collector_state as c')
    .join('spoor.source as s', 's.id', 'c.source_id')
    .select<{ name: string; saves: string; changes: string }[]>('s.name', 'c.saves', 'c.changes')
  const saves = new Counter({
    name: 'spoor_collector_saves_total',
    help: 'Captured rows taken into the ledger',
    labelNames: ['source'],
    registers: [registry],
  })
  const changes = new Counter({
    name: 'spoor_collector_changes_total',
    help: 'Changes taken into the ledger',
    labelNames: ['source'],
    registers: [registry],
  })
  for (const source of collected) {
    saves.inc({ source: source.name }, Number(source.saves))
    changes.inc({ source: source.name }, Number(source.changes))
  }
  const standing = await countAlarms(db)
  const alarms = gauge('spoor_alarms', 'What is wrong and not settled', ['code'])
  for (const code of alarmCodes) alarms.set({ code }, standing.get(code) ?? 0)
  gauge('spoor_work_open', 'Long work that is under way or waits').set(pulse.working)
  gauge('spoor_ledger_saves', 'Saves in the ledger').set(Number(pulse.latestSave ?? 0))
  return { type: registry.contentType, text: await registry.metrics() }
}
