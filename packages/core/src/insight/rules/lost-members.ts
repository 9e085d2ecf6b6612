import { arrayMembers } from '../../value/array.ts'
import { dayMs, rule, type Hit } from '../model.ts'

interface State {
  /** Of each field: its changes and those in which a set lost most of its members. */
  fields: Record<string, { changes: number; losses: number }>
  /** Of each run and field, while it lasts. */
  runs: Record<
    string,
    { saves: string[]; removed: number; emptied: number; losses: number; untilMs: number; told: boolean }
  >
}

const most = 0.5

export const lostMembers = rule<State>({
  name: 'lost-members',
  title: 'Sets that lost most of their members',
  notices: 'A run in which many sets lose more than half of their members, or one large set that does.',
  limits:
    'Compared with how often sets of the field lose most of their members otherwise. A single set is told only where that is rare among at least a hundred changes.',
  parameters: {
    sets: { words: 'sets in one run', usual: 5, least: 2, most: 1000 },
    members: { words: 'members that a single set must have had', usual: 5, least: 2, most: 1000 },
    share: {
      words: 'most percent of the field’s changes that may lose most members before it counts as usual',
      usual: 2,
      least: 0,
      most: 100,
    },
  },
  quietDays: 1,
  weight: 0.92,
  begin: () => ({ fields: {}, runs: {} }),
  notice(save, { fields, runs }, { sets, members, share }, { world }) {
    if (save.action !== 'change') return []
    const hits: Hit[] = []
    for (const { fieldId, before, after } of save.changes) {
      if (world.field(fieldId)?.kind !== 'set') continue
      const had = before === null ? [] : (arrayMembers(before) ?? [])
      const has = after === null ? [] : (arrayMembers(after) ?? [])
      const removed = had.filter((member) => !has.includes(member)).length
      const field = (fields[fieldId] ??= { changes: 0, losses: 0 })
      const lost = had.length >= 2 && removed > had.length * most
      field.changes++
      if (!lost) continue
      const place = `run ${save.runId ?? save.transaction} ${fieldId}`
      const run = (runs[place] ??= { saves: [], removed: 0, emptied: 0, losses: 0, untilMs: 0, told: false })
      // What a run did before it is told is no part of what it is compared with. (Kept from before that was counted: none.)
      run.losses ||= 0
      const others = Math.max(field.changes - 1 - run.losses, 0)
      const usually = ((field.losses - run.losses) / Math.max(others, 1)) * 100
      const known = { changes: others, usualPercent: usually }
      run.untilMs = save.atMs + dayMs
      run.removed += removed
      if (has.length === 0) run.emptied++
      if (!run.told) run.saves.push(save.id)
      const many = run.told || (run.saves.length >= sets! && (known.changes < 100 || usually <= share!))
      if (many) {
        hits.push({
          key: place,
          saves: run.told ? [save.id] : run.saves,
          fieldId,
          figures: { removed: run.removed, emptied: run.emptied, ...known },
        })
        run.told = true
        run.saves = []
      } else if (had.length >= members! && known.changes >= 100 && usually <= share!)
        hits.push({
          key: `save ${save.id}`,
          saves: [save.id],
          fieldId,
          figures: { removed, emptied: has.length === 0 ? 1 : 0, ...known },
        })
      // Many at once would make themselves look usual.
      if (!many) {
        field.losses++
        run.losses++
      }
    }
    for (const [place, run] of Object.entries(runs)) if (run.untilMs < save.atMs) delete runs[place]
    return hits
  },
})
