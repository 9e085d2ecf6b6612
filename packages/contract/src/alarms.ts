import * as v from 'valibot'
import { Instant, IntParam, SaveId } from './common.ts'
import { route } from './route.ts'

/** What may be wrong. Whatever depends on an alarm asks for its code, never for its words. */
export const alarmCodes = [
  'capture-altered',
  'capture-missed',
  'capture-untried',
  'collecting-failed',
  'ledger-altered',
  'outbox-altered',
  'partition-rows',
  'record-differs',
  'rows-set-aside',
  'source-older',
  'source-replaced',
  'source-unreachable',
  'witness-silent',
] as const
export type AlarmCode = (typeof alarmCodes)[number]

/** What is wrong, for a message that leaves Spoor: the words of an alarm itself may quote what a source answered. */
export const alarmNames: Readonly<Record<AlarmCode, string>> = {
  'capture-altered': 'what captures changes was altered',
  'capture-missed': 'changes may have been missed',
  'capture-untried': 'capture could not be tried on a field',
  'collecting-failed': 'changes cannot be collected',
  'ledger-altered': 'the ledger is not as it was written',
  'outbox-altered': 'captured rows were altered before they were collected',
  'partition-rows': 'rows lie where capture does not reach them',
  'record-differs': 'a record is not as its trail says',
  'rows-set-aside': 'captured rows could not be read and were set aside',
  'source-older': 'the source was put back from an older copy',
  'source-replaced': 'the source is another than it was',
  'source-unreachable': 'the source cannot be reached',
  'witness-silent': 'a witness takes no seals',
}

/** Something wrong that somebody must deal with; kept until it is settled with words. */
export const Alarm = v.object({
  id: v.number(),
  code: v.picklist(alarmCodes),
  /** Null for the ledger itself. */
  source: v.nullable(v.string()),
  at: Instant,
  /** When it was seen to hold no longer; it is still to be settled. */
  overAt: v.nullable(Instant),
  words: v.string(),
  saveId: v.nullable(SaveId),
  fieldId: v.nullable(v.number()),
  stored: v.nullable(v.string()),
  expected: v.nullable(v.string()),
  afterSeal: v.nullable(v.number()),
  beforeSeal: v.nullable(v.number()),
  settled: v.nullable(v.object({ by: v.string(), at: Instant, why: v.string() })),
})
export type Alarm = v.InferOutput<typeof Alarm>

export const alarmRoutes = {
  listAlarms: route({
    method: 'GET',
    path: '/alarms',
    needs: 'custody.read',
    summary: 'Everything wrong that somebody must deal with, the latest first; or what was settled',
    query: v.object({ settled: v.optional(v.picklist(['0', '1']), '0') }),
    response: v.object({
      alarms: v.array(Alarm),
      /** How many there are, of which no more than the list is long are in it. */
      count: v.number(),
    }),
  }),
  settleAlarm: route({
    method: 'PUT',
    path: '/alarms/:alarmId/settled',
    needs: 'custody.check',
    summary: 'Say what was found out about an alarm',
    params: v.object({ alarmId: IntParam }),
    body: v.strictObject({
      why: v.pipe(v.string(), v.trim(), v.minLength(3, 'Say what was found out.'), v.maxLength(4000)),
    }),
    response: Alarm,
  }),
}
