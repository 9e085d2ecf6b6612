import { isDecimal } from '../../value/difference.ts'
import { rule, type Hit } from '../model.ts'

interface Held {
  /** How many values were entered, the least and the most of them. */
  values: number
  least: number
  most: number
  /** Some of them, evenly from all of the past. */
  sample: number[]
  /** How many lay far outside. */
  outside: number
}
interface State {
  fields: Record<string, Held>
}

const sampled = 96
/** When so many of a field's values lay outside, and this share of all, that is how its values are now. */
const [oftenOutside, shareOutside] = [6, 0.03]

export const farOutside = rule<State>({
  name: 'far-outside',
  title: 'Far outside all that was ever there',
  notices:
    'A number, entered anew or changed to, that lies far outside everything its field has held before, by whoever and of whatever record.',
  limits:
    'Compared with the middle of the field’s values and with how far all but the outermost twentieth lie from it, so that a few odd values make nothing usual; by ratios where all values are above nought. Before enough values it stays silent, and where values often lie outside, that is how they are. Numbers that only name another record are not looked at.',
  parameters: {
    times: {
      words: 'times as far from the middle as all but the outermost twentieth',
      usual: 3,
      least: 1.5,
      most: 100,
    },
    values: { words: 'values of the field that must be known', usual: 40, least: 20, most: 100_000 },
  },
  quietDays: 1,
  weight: 0.9,
  begin: () => ({ fields: {} }),
  notice(save, { fields }, { times, values }, { world, day }) {
    if (save.action === 'delete') return []
    const hits: Hit[] = []
    for (const { fieldId, after } of save.changes) {
      const facts = world.field(fieldId)
      if (facts?.kind !== 'number' || facts.derived || facts.reference || after === null || !isDecimal(after)) continue
      const value = Number(after)
      if (!Number.isFinite(value)) continue
      const held = (fields[fieldId] ??= { values: 0, least: value, most: value, sample: [], outside: 0 })
      if (held.values >= values! && isFarOutside(value, held, times!)) {
        held.outside++
        if (held.outside < oftenOutside || held.outside < shareOutside * held.values) {
          hits.push({
            key: `${save.actorId} ${fieldId} ${day}`,
            saves: [save.id],
            fieldId,
            figures: { value, least: held.least, most: held.most, values: held.values },
          })
          // What stands out is not what later ones are compared with.
          continue
        }
      }
      take(held, value)
    }
    return hits
  },
})

/** Every value has the same chance to stay in the sample, and the same values make the same sample. */
function take(held: Held, value: number): void {
  held.values++
  held.least = Math.min(held.least, value)
  held.most = Math.max(held.most, value)
  if (held.sample.length < sampled) held.sample.push(value)
  else {
    const place = scattered(held.values) % held.values
    if (place < sampled) held.sample[place] = value
  }
}

/** A number's bits mixed (the finaliser of MurmurHash3, 32 bits). */
function scattered(n: number): number {
  let h = Math.imul(n ^ (n >>> 16), 0x85ebca6b)
  h = Math.imul(h ^ (h >>> 13), 0xc2b2ae35)
  return (h ^ (h >>> 16)) >>> 0
}

/**
 * Outside all values held, `times` as far from their median as the 5th and 95th percentile are, and beyond the
 * outermost by as much as that percentile lies away: of numbers above nought by their logarithms, and then by at
 * least the factor of two.
 */
function isFarOutside(value: number, { least, most, sample }: Omit<Held, 'values' | 'outside'>, times: number) {
  if (value >= least && value <= most) return false
  // Noughts say that there is none; what is there is compared with what is there.
  const positive = value > 0 && least >= 0
  const scale = positive ? Math.log : (n: number) => n
  const sorted = (positive ? sample.filter((n) => n > 0) : [...sample]).map(scale).sort((a, b) => a - b)
  if (sorted.length < 10) return false
  const at = (share: number) => sorted[Math.round(share * (sorted.length - 1))]!
  const [middle, low, high] = [at(0.5), at(0.05), at(0.95)]
  const above = value > most
  const spread = Math.max(above ? high - middle : middle - low, (high - low) / 4, positive ? Math.log(2) / times : 0)
  if (spread === 0) return true
  const outermost = above ? scale(most) : positive && least === 0 ? sorted[0]! : scale(least)
  const reach = Math.abs(scale(value) - middle)
  return (
    reach > times * spread && Math.abs(scale(value) - outermost) > (positive ? Math.max(spread, Math.log(2)) : spread)
  )
}
