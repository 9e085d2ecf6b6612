import { assertNever } from '../words/assert-never.ts'
import { capitalised, counted, grouped, listed } from '../words/list.ts'
import type { ActorKind, RecordRef } from '../scope/model.ts'
import type { ScopeNames } from '../scope/sentence.ts'
import type { Reason, Story } from './notice.ts'

/** The names that a story is told with. */
export interface StoryNames extends ScopeNames {
  actorKind(id: number): ActorKind | undefined
  /** The record that a story is about, where it is about one. */
  only: RecordRef | null
}

type Told = Omit<Story, 'saves' | 'id'>

/** A story as it is handed over, with instants and a count, as it is told. */
export function toldStory<S extends { saves: number; from: string; to: string }>(story: S) {
  return { ...story, count: story.saves, fromMs: Date.parse(story.from), toMs: Date.parse(story.to) }
}

const kindOfRun: Readonly<Partial<Record<ActorKind, string>>> = { import: 'one import', job: 'one job run' }
const smallNumbers = [
  'no',
  'one',
  'two',
  'three',
  'four',
  'five',
  'six',
  'seven',
  'eight',
  'nine',
  'ten',
  'eleven',
  'twelve',
]

/** Small whole numbers as words, as a sentence wants them. */
export function inWords(n: number): string {
  return smallNumbers[n] ?? grouped(n)
}

/** "63 hours", "5 days", "eleven months": the unit that fits. */
export function spellWords(hours: number): string {
  if (hours < 1.5) return counted(Math.max(1, Math.round(hours * 60)), 'minute')
  if (hours < 96) return counted(Math.round(hours), 'hour')
  if (hours < 24 * 60) return counted(Math.round(hours / 24), 'day')
  const months = Math.round(hours / 24 / 30.44)
  return months < 24 ? `${inWords(months)} months` : counted(Math.round(months / 12), 'year')
}

const percentText = (percent: number) =>
  `${Math.abs(percent) < 10 ? Number(percent.toFixed(1)) : Math.round(percent)} %`

/** What happened, in one sentence without a full stop. */
export function storyHeadline(story: Told, names: StoryNames): string {
  const [reason] = story.reasons
  return reason ? capitalised(headline(reason, story, names)) : ''
}

function headline({ rule, fieldId, figures }: Reason, story: Told, names: StoryNames): string {
  const figure = (name: string) => figures[name] ?? 0
  const field = fieldId === null ? 'a field' : (names.field(fieldId)?.name ?? `field ${fieldId}`)
  const types = listed(story.types.map((id) => names.type(id) ?? `record type ${id}`))
  const actor = listed(story.actors.slice(0, 3).map((id) => names.actor(id) ?? `actor ${id}`))
  const label = names.only ? names.record(names.only) : undefined
  const whose =
    story.records === 1 && label ? `${field} of ${label}` : `${field} of ${counted(story.records, 'record')}`
  const those = story.records === 1 ? (label ?? `one record of ${types}`) : `${grouped(story.records)} ${types}`
  const their = story.records === 1 ? 'its' : 'their'
  const inRun = kindOfRun[names.actorKind(story.actors[0] ?? 0) ?? 'unknown'] ?? 'one run'
  switch (rule) {
    case 'unknown-actor':
      if (figure('claimed')) return `${counted(story.count, 'save')} by somebody who only claims to be ${actor}`
      if (figure('delegate')) return `${actor}, a support delegate, made ${counted(story.count, 'save')} of ${types}`
      return `${counted(story.count, 'save')} of ${types} by ${actor}, which nobody is known by`
    case 'there-and-back':
      return `${whose} was changed, and changed back ${spellWords(figure('hours'))} later`
    case 'factor': {
      const times = figures['factor']
      // Of a masked field, or in a message, nothing is said that tells of a value.
      if (times === undefined) return `${whose} became far more or far less than it was`
      const power = Math.round(Math.abs(Math.log10(times)))
      const word = ['', 'ten', 'a hundred', 'a thousand'][power] ?? grouped(10 ** power)
      const hours = story.reasons.find((one) => one.rule === 'there-and-back')?.figures['hours']
      const back = hours === undefined ? '' : `, and was changed back ${spellWords(hours)} later`
      return times > 1
        ? `${whose} became ${word} times what it was${back}`
        : `${whose} became ${fraction(power)} of what it was${back}`
    }
    case 'far-outside': {
      const { value } = figures
      const became = value === undefined ? 'lies' : `became ${figureText(value)},`
      const side = value === undefined ? '' : value > figure('most') ? ' above' : ' below'
      return story.count > 1
        ? `${whose} came to lie far outside all that it held before`
        : `${whose} ${became} far${side || ' outside'} all that it held before`
    }
    case 'lost-members':
      return figure('emptied') === story.count || figure('emptied') === story.records
        ? `${those} lost all ${their} ${field} in ${inRun}`
        : `${those} lost most of ${their} ${field} in ${inRun}`
    case 'burst': {
      const moved = figures['percent']
      const what = `${field} of ${grouped(figure('run'))} ${types}`
      return moved === undefined
        ? `${what} was changed in ${inRun}`
        : `${what} ${moved > 0 ? 'rose' : 'fell'} by about ${percentText(Math.abs(moved))} in ${inRun}`
    }
    case 'under-limit':
      return `${capitalised(inWords(story.count))} values of ${field} just under ${limitText(figures['limit'])}, all by ${actor}`
    case 'after-sign-off':
      return `${whose} was changed by ${actor} after somebody else had signed it off`
    case 'back-dated': {
      const [least, most] = [figure('leastDays'), figure('mostDays')].map((days) => spellWords(days * 24))
      const span = least === most ? least : `${least} to ${most}`
      return story.count === 1
        ? `a record of ${types} takes effect ${span} before it was entered`
        : `${inWords(story.count)} ${types} take effect ${span} before they were entered`
    }
    case 'took-along':
      return `${label ?? 'a record'} was deleted, and ${counted(figure('records') - 1, 'more record')} with it`
    case 'first-touch':
      return `${actor} changed ${whose} for the first time`
    case 'unusual-hours':
      return `${actor} made ${counted(story.count, 'save')} at about ${String(figure('hour')).padStart(2, '0')}:00, at which they never worked before`
    case 'gap':
      return `${field} of ${counted(figure('records'), 'record')} is not what it was before a gap in tracking`
    default:
      return assertNever(rule)
  }
}

const limitText = (limit: number | undefined) => (limit === undefined ? 'a limit' : grouped(limit))

/** A number of the business as a person reads it: grouped, with the digits that it has. */
function figureText(value: number): string {
  const [whole = '', digits] = String(Math.abs(value)).split('.')
  const text = /e/.test(whole) ? whole : grouped(BigInt(whole))
  return `${value < 0 ? '−' : ''}${text}${digits === undefined ? '' : `.${digits}`}`
}

function fraction(power: number): string {
  return ['', 'a tenth', 'a hundredth', 'a thousandth'][power] ?? `1/${grouped(10 ** power)}`
}

/** "None of 12 earlier changes of deposit came back so soon", "Of 412 earlier changes of deposit, 2 % came back so soon". */
function amongEarlier(earlier: number, what: string, share: { count: number } | { percent: number }, verb: string) {
  if (earlier === 0) return `There is no earlier ${what} to compare with.`
  const none = 'count' in share ? share.count === 0 : share.percent === 0
  const many = earlier === 1 ? `The one earlier ${what}` : `None of ${grouped(earlier)} earlier ${plural(what)}`
  if (none)
    return `${many} ${earlier === 1 ? `did not ${verb.replace(/^\w+/, (word) => presents[word] ?? word)}` : verb}.`
  const part = 'count' in share ? inWords(share.count) : percentText(share.percent)
  return `Of ${counted(earlier, `earlier ${what}`, `earlier ${plural(what)}`)}, ${part} ${verb}.`
}
const plural = (what: string) => what.replace(/^(change|entry)/, (word) => (word === 'entry' ? 'entries' : 'changes'))
const presents: Readonly<Record<string, string>> = { came: 'come', took: 'take', lay: 'lie' }

/** Why a reason says so: what it was compared with, as sentences. */
export function reasonWords({ rule, fieldId, figures }: Reason, story: Told, names: StoryNames): string {
  const figure = (name: string) => figures[name] ?? 0
  const field = fieldId === null ? 'it' : (names.field(fieldId)?.name ?? `field ${fieldId}`)
  const who = names.actor(story.actors[0] ?? 0) ?? 'the actor'
  switch (rule) {
    case 'unknown-actor':
      if (figure('claimed')) return 'The login is not one that may say who acts.'
      return figure('delegate')
        ? 'A delegate acts in somebody else’s name.'
        : 'No directory entry and no identity explains this login.'
    case 'there-and-back':
      return amongEarlier(figure('changes'), `change of ${field}`, { count: figure('backs') }, 'came back so soon')
    case 'factor':
      return `${capitalised(field)} usually moves by about ${percentText(figure('usualPercent'))} (${counted(figure('moves'), 'move')} before).`
    case 'far-outside': {
      const before = counted(figure('values'), 'value')
      return figures['least'] === undefined
        ? `None of ${before} before came near it.`
        : `All ${before} before lay between ${figureText(figure('least'))} and ${figureText(figure('most'))}.`
    }
    case 'lost-members':
      return `${counted(figure('removed'), 'member')} went, and ${counted(figure('emptied'), 'set')} ${figure('emptied') === 1 ? 'is' : 'are'} empty now. ${amongEarlier(figure('changes'), `change of ${field}`, { percent: figure('usualPercent') }, 'took most members away')}`
    case 'burst': {
      const usual = figures['usualDay']
      const before =
        usual === undefined
          ? ''
          : `On a usual day ${usual < 1 ? 'less than one' : `about ${grouped(Math.round(usual))}`} ${Math.round(usual) > 1 ? 'change' : 'changes'}. `
      const hand = figure('byHand')
      return `${before}${hand > 0 ? `${capitalised(inWords(hand))} of them ${hand === 1 ? 'was' : 'were'} changed again by hand since.` : ''}`.trim()
    }
    case 'under-limit': {
      const others = figures['othersPercent']
      const compared =
        others === undefined
          ? 'There are too few other values to compare with.'
          : `Of everybody’s values, ${percentText(others)} are.`
      return `${capitalised(inWords(story.count))} of the last ${grouped(figure('ofValues'))} that ${who} put there are just under ${limitText(figures['limit'])}. ${compared}`
    }
    case 'after-sign-off':
      return `The latest ${spellWords(figure('days') * 24)} after the sign-off. ${amongEarlier(figure('changes'), `change of ${field}`, { percent: figure('usualPercent') }, 'came after one')}`
    case 'back-dated':
      return amongEarlier(
        figure('entered'),
        `entry of ${field}`,
        { percent: figure('usualPercent') },
        'lay so far back',
      )
    case 'took-along':
      return `${counted(figure('records'), 'record')} of ${counted(figure('types'), 'record type')} were deleted in one transaction.`
    case 'first-touch':
      return `${who} had never changed ${field} in ${counted(Math.round(figure('months')), 'month')} and ${counted(figure('actorSaves'), 'save')}.`
    case 'unusual-hours':
      return `Never within two hours of it in ${counted(figure('actorSaves'), 'save')} before, and hardly anybody else works then.`
    case 'gap':
      return `${capitalised(field)} changed there while it was not tracked: by whom, when and why is not on the trail.`
    default:
      return assertNever(rule)
  }
}
