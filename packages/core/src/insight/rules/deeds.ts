import { dayMs, rule, type Hit } from '../model.ts'

/** Rules that look at who acts and what kind of act it is, rather than at values. */

interface Known {
  days: Record<string, { saves: number; lastMs: number }>
}

export const unknownActor = rule<Known>({
  name: 'unknown-actor',
  title: 'By somebody unknown, claimed, or acting for another',
  notices:
    'Saves by a login that nobody is known by, by somebody who only claims who they are, and by a support delegate.',
  limits:
    'As the directory and the identities stood when the saves were collected. Saying who a login is settles it for what comes.',
  parameters: { saves: { words: 'saves in a day', usual: 1, least: 1, most: 1000 } },
  quietDays: 5,
  weight: 0.97,
  begin: () => ({ days: {} }),
  notice(save, { days }, { saves }, { day }) {
    if (save.actorKind !== 'unknown' && save.actorKind !== 'delegate' && !save.claimed) return []
    const place = `${save.actorId} ${save.claimed} ${day}`
    const today = (days[place] ??= { saves: 0, lastMs: save.atMs })
    for (const [one, { lastMs }] of Object.entries(days)) if (lastMs < save.atMs - 2 * dayMs) delete days[one]
    today.saves++
    today.lastMs = save.atMs
    if (today.saves < saves!) return []
    const figures = { claimed: save.claimed ? 1 : 0, delegate: save.actorKind === 'delegate' ? 1 : 0 }
    return [{ key: `${save.actorId} ${save.claimed}`, saves: [save.id], fieldId: null, figures }]
  },
})

interface Transactions {
  open: Record<string, { saves: string[]; types: Record<string, number>; atMs: number; told: boolean }>
}

export const tookAlong = rule<Transactions>({
  name: 'took-along',
  title: 'Deleted, with what hung on it',
  notices: 'A deletion that took records of other types along in the same transaction.',
  limits:
    'Told of every such transaction by a person, a delegate or somebody unknown; imports and jobs that clear up are not told.',
  parameters: { records: { words: 'records deleted together', usual: 3, least: 2, most: 1000 } },
  quietDays: 1,
  weight: 0.86,
  begin: () => ({ open: {} }),
  notice(save, { open }, { records }) {
    if (save.action !== 'delete' || !['person', 'delegate', 'unknown'].includes(save.actorKind)) return []
    for (const [one, { atMs }] of Object.entries(open)) if (atMs < save.atMs - 3_600_000) delete open[one]
    const one = (open[save.transaction] ??= { saves: [], types: {}, atMs: save.atMs, told: false })
    one.saves.push(save.id)
    one.types[save.typeId] = (one.types[save.typeId] ?? 0) + 1
    const [types, deleted] = [Object.keys(one.types).length, Object.values(one.types).reduce((a, b) => a + b, 0)]
    if (types < 2 || deleted < records!) return []
    const saves = one.told ? [save.id] : one.saves
    one.told = true
    return [{ key: save.transaction, saves, fieldId: null, figures: { records: deleted, types } }]
  },
})

/** Before so many changes of a sensitive field there is no telling whose work it is. */
const least = 10

interface Touches {
  types: Record<string, { saves: number; changes: Record<string, number> }>
  actors: Record<string, { byType: Record<string, number>; touched: Record<string, 1>; types: Record<string, 1> }>
  saves: number
}

export const firstTouch = rule<Touches>({
  name: 'first-touch',
  title: 'First time this actor touches it',
  notices: 'Somebody known for long who changes a field, or records of a type, for the first time.',
  limits:
    'Told where the field is sensitive, or where so many changes would have been expected of them by now that it cannot be chance. Newcomers are not told.',
  parameters: {
    days: { words: 'days that the actor must be known', usual: 90, least: 1, most: 3650 },
    saves: { words: 'saves that the actor must have made', usual: 40, least: 1, most: 100_000 },
    expected: { words: 'changes that were to be expected of them', usual: 8, least: 1, most: 1000 },
  },
  quietDays: 3,
  weight: 0.5,
  begin: () => ({ types: {}, actors: {}, saves: 0 }),
  notice(save, state, { days, saves, expected }, { world, actor }) {
    const type = (state.types[save.typeId] ??= { saves: 0, changes: {} })
    const mine = (state.actors[save.actorId] ??= { byType: {}, touched: {}, types: {} })
    const known = actor !== undefined && actor.saves >= saves! && save.atMs - actor.firstMs >= days! * dayMs
    const hits: Hit[] = []
    const ofType = mine.byType[save.typeId] ?? 0
    if (save.action === 'change')
      for (const { fieldId } of save.changes) {
        const facts = world.field(fieldId)
        if (!facts || facts.derived || mine.touched[fieldId]) continue
        mine.touched[fieldId] = 1
        const changes = type.changes[fieldId] ?? 0
        const wanted = ofType * (changes / Math.max(type.saves, 1))
        if (known && ((facts.sensitive && changes >= least) || wanted >= expected!))
          hits.push({
            key: `${save.actorId} ${fieldId}`,
            saves: [save.id],
            fieldId,
            figures: { months: (save.atMs - actor.firstMs) / (30.44 * dayMs), actorSaves: actor.saves, changes },
          })
      }
    if (save.action === 'change') {
      type.saves++
      mine.byType[save.typeId] = ofType + 1
      for (const { fieldId } of save.changes) type.changes[fieldId] = (type.changes[fieldId] ?? 0) + 1
    }
    return hits
  },
})

interface Worked {
  work: number[]
  weekend: number[]
  saves: number
}
interface Hours {
  actors: Record<string, Worked>
  everyone: Worked
}

const nobody = (): Worked => ({ work: new Array<number>(24).fill(0), weekend: new Array<number>(24).fill(0), saves: 0 })

/** Saves within two hours of an hour, on working days or at weekends. */
function near({ work, weekend: free }: Worked, hour: number, weekend: boolean): number {
  const hours = weekend ? free : work
  return [22, 23, 0, 1, 2].reduce((sum, away) => sum + hours[(hour + away) % 24]!, 0)
}

export const unusualHours = rule<Hours>({
  name: 'unusual-hours',
  title: 'Outside the actor’s usual hours',
  notices: 'A person who saves at an hour, or on a weekend, at which they never did before.',
  limits:
    'Compared with all their saves so far; before enough of them, within two hours of their usual hours, and at hours at which other people work, it stays silent. Hours are those of the clock that the organisation works by.',
  parameters: {
    saves: { words: 'saves that the actor must have made', usual: 200, least: 20, most: 100_000 },
    share: {
      words: 'most percent of all people’s saves at such an hour before it counts as usual',
      usual: 0.2,
      least: 0,
      most: 100,
    },
  },
  quietDays: 1,
  weight: 0.4,
  begin: () => ({ actors: {}, everyone: nobody() }),
  notice(save, { actors, everyone }, { saves, share }, { hour, weekend, day }) {
    if (save.actorKind !== 'person') return []
    const mine = (actors[save.actorId] ??= nobody())
    const others = (near(everyone, hour, weekend) / Math.max(everyone.saves, 1)) * 100
    const hit = near(mine, hour, weekend) === 0 && mine.saves >= saves! && others <= share!
    for (const one of [mine, everyone]) {
      one.saves++
      ;(weekend ? one.weekend : one.work)[hour]!++
    }
    if (!hit) return []
    return [
      { key: `${save.actorId} ${day}`, saves: [save.id], fieldId: null, figures: { hour, actorSaves: mine.saves - 1 } },
    ]
  },
})

interface Nothing {
  records: Record<string, number>
}

export const gap = rule<Nothing>({
  name: 'gap',
  title: 'Changed where nobody saw it',
  notices:
    'A field that was not tracked for some time, and values that are other after such a gap than they were before it.',
  limits:
    'What was changed in a gap is known only when the record is next changed; a value changed and changed back in it never is.',
  parameters: { records: { words: 'records whose values do not join', usual: 1, least: 1, most: 1000 } },
  quietDays: 400,
  weight: 0.7,
  begin: () => ({ records: {} }),
  notice(save, { records: seen }, { records }) {
    return save.changes.flatMap((change): Hit[] => {
      if (!change.unseen) return []
      const count = (seen[change.fieldId] = (seen[change.fieldId] ?? 0) + 1)
      if (count < records!) return []
      return [{ key: `${change.fieldId}`, saves: [save.id], fieldId: change.fieldId, figures: { records: count } }]
    })
  },
})
