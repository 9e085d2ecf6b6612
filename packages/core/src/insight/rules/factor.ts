import { isDecimal } from '../../value/difference.ts'
import { dayMs, rule, type Hit } from '../model.ts'

interface State {
  /** Of each field: how many moves there were and the sum of how far, as natural logarithms. */
  fields: Record<string, { moves: number; far: number }>
  /** Of each slip that is still told: the factor it began with, before it was set right. */
  first: Record<string, [factor: number, atMs: number]>
}

const tenfold = Math.log(10)
/** A slip of the point is exactly tenfold, or nearly, when a last digit was changed with it. */
const nearly = 0.05

export const factor = rule<State>({
  name: 'factor',
  title: 'Out by a factor of ten',
  notices: 'A number that becomes ten, a hundred or a thousand times what it was, or that part of it.',
  limits:
    'Compared with how far the field’s numbers usually move: where they jump about anyway, and before it has moved a few times, it stays silent. Numbers through zero have no factor.',
  parameters: {
    percent: { words: 'most percent that the field’s numbers usually move by', usual: 50, least: 1, most: 1000 },
    moves: { words: 'moves of the field that must be known', usual: 5, least: 1, most: 1000 },
  },
  quietDays: 1,
  weight: 0.96,
  begin: () => ({ fields: {}, first: {} }),
  notice(save, { fields, first }, { percent, moves }, { world, day }) {
    if (save.action !== 'change') return []
    const hits: Hit[] = []
    for (const { fieldId, before, after } of save.changes) {
      if (
        before === null ||
        after === null ||
        world.field(fieldId)?.kind !== 'number' ||
        !isDecimal(before) ||
        !isDecimal(after)
      )
        continue
      const ratio = Number(after) / Number(before)
      if (!(ratio > 0) || !Number.isFinite(ratio)) continue
      const far = Math.abs(Math.log(ratio))
      const field = (fields[fieldId] ??= { moves: 0, far: 0 })
      const powers = Math.round(far / tenfold)
      const stands =
        powers >= 1 &&
        Math.abs(far - powers * tenfold) < nearly &&
        field.moves >= moves! &&
        field.far / field.moves <= Math.log(1 + percent! / 100)
      if (stands && !world.field(fieldId)!.derived) {
        // One hand on one day makes one mistake, whatever it touched, and mostly puts it right.
        const key = `${save.actorId} ${fieldId} ${day}`
        first[key] ??= [ratio, save.atMs]
        hits.push({
          key,
          saves: [save.id],
          fieldId,
          figures: {
            factor: first[key][0],
            usualPercent: (Math.exp(field.far / field.moves) - 1) * 100,
            moves: field.moves,
          },
        })
      }
      // What stands out is not what later ones are compared with.
      if (!stands) {
        field.moves++
        field.far += far
      }
    }
    for (const [key, [, atMs]] of Object.entries(first)) if (atMs < save.atMs - 2 * dayMs) delete first[key]
    return hits
  },
})
