import { dayMs, rule, type Hit } from '../model.ts'

interface State {
  /** Who approved or closed a record, of the last months. */
  signed: Record<string, [actorId: number, atMs: number]>
  /** Of each field: its changes, and those made by others after a sign-off. */
  fields: Record<string, { changes: number; after: number }>
  sweptMs: number
}

const memoryDays = 180

export const afterSignOff = rule<State>({
  name: 'after-sign-off',
  title: 'Changed after somebody else signed it off',
  notices: 'An amount of a record, or of its line, that is changed after somebody else approved or closed the record.',
  limits: `Known from fields that are called approved, authorised, signed or closed, for ${memoryDays} days. Only numbers and sensitive fields are looked at. Fields that are often changed by others after a sign-off stay silent.`,
  parameters: {
    share: {
      words: 'most percent of the field’s changes that may come after a sign-off before it counts as usual',
      usual: 20,
      least: 0,
      most: 100,
    },
  },
  quietDays: 30,
  weight: 0.8,
  begin: () => ({ signed: {}, fields: {}, sweptMs: 0 }),
  notice(save, state, { share }, { world }) {
    if (save.atMs - state.sweptMs > 7 * dayMs) {
      for (const [place, [, atMs]] of Object.entries(state.signed))
        if (atMs < save.atMs - memoryDays * dayMs) delete state.signed[place]
      state.sweptMs = save.atMs
    }
    const hits: Hit[] = []
    const signedBy =
      state.signed[`${save.typeId} ${save.key}`] ??
      (save.parent && state.signed[`${save.parent.typeId} ${save.parent.key}`])
    for (const { fieldId, after } of save.changes) {
      const facts = world.field(fieldId)
      if (!facts || facts.derived) continue
      if (facts.signOff) {
        if (after === null) delete state.signed[`${save.typeId} ${save.key}`]
        else state.signed[`${save.typeId} ${save.key}`] = [save.actorId, save.atMs]
        continue
      }
      if (save.action !== 'change' || !(facts.kind === 'number' || facts.sensitive)) continue
      const field = (state.fields[fieldId] ??= { changes: 0, after: 0 })
      const late = signedBy && signedBy[0] !== save.actorId && save.actorKind === 'person'
      const usually = (field.after / Math.max(field.changes, 1)) * 100
      if (late && (field.changes < 10 || usually <= share!)) {
        const days = (save.atMs - signedBy[1]) / dayMs
        hits.push({
          key: `${save.actorId} ${fieldId}`,
          saves: [save.id],
          fieldId,
          figures: { days, changes: field.changes, usualPercent: usually },
        })
      } else {
        field.changes++
        if (late) field.after++
      }
    }
    return hits
  },
})
