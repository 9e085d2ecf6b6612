import { dayMs, rule, type Hit } from '../model.ts'

interface Held {
  /** Where the value went away from, when and by which save. */
  left: [value: string | null, atMs: number, saveId: string][]
}
interface State {
  held: Record<string, Held>
  fields: Record<string, { changes: number; backs: number }>
  sweptMs: number
}

/** Longer texts are written on, not set and set back. */
const longest = 120

export const thereAndBack = rule<State>({
  name: 'there-and-back',
  title: 'Changed and changed back',
  notices: 'A value that a person changes, and that is what it was before again within some days.',
  limits:
    'Only values changed by people, delegates and unknown actors, and not those that follow from others. Fields that often go back and forth, and long texts, stay silent.',
  parameters: {
    days: { words: 'days within which it came back', usual: 7, least: 1, most: 60 },
    share: {
      words: 'most percent of the field’s changes that may come back before it counts as usual',
      usual: 3,
      least: 0,
      most: 100,
    },
  },
  quietDays: 7,
  weight: 0.95,
  begin: () => ({ held: {}, fields: {}, sweptMs: 0 }),
  notice(save, state, { days, share }, { world }) {
    const spellMs = days! * dayMs
    if (save.atMs - state.sweptMs > dayMs) {
      sweep(state, save.atMs - spellMs)
      state.sweptMs = save.atMs
    }
    if (save.action !== 'change' || !['person', 'delegate', 'unknown'].includes(save.actorKind)) return []
    const hits: Hit[] = []
    for (const { fieldId, before, after } of save.changes) {
      const facts = world.field(fieldId)
      if (!facts || facts.derived || (after?.length ?? 0) > longest || (before?.length ?? 0) > longest) continue
      const place = `${save.typeId} ${save.key} ${fieldId}`
      const left = (state.held[place]?.left ?? []).filter(([, atMs]) => atMs >= save.atMs - spellMs)
      const field = (state.fields[fieldId] ??= { changes: 0, backs: 0 })
      // The last time it had this value, so that the shortest way there and back is told.
      const from = left.findLastIndex(([value]) => value === after)
      if (from >= 0) {
        const usually = (field.backs / Math.max(field.changes, 1)) * 100
        // One return among a handful of changes is no habit.
        if (field.backs <= 1 || usually <= share!)
          hits.push({
            key: place,
            saves: [...left.slice(from).map(([, , saveId]) => saveId), save.id],
            fieldId,
            figures: { hours: (save.atMs - left[from]![1]) / 3_600_000, changes: field.changes, backs: field.backs },
          })
        field.backs++
      }
      field.changes++
      state.held[place] = { left: [...left, [before, save.atMs, save.id] as Held['left'][number]].slice(-5) }
    }
    return hits
  },
})

function sweep(state: State, beforeMs: number): void {
  for (const [place, { left }] of Object.entries(state.held))
    if ((left.at(-1)?.[1] ?? 0) < beforeMs) delete state.held[place]
}
