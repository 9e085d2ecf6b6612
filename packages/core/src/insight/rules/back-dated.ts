import { dayMs, rule, type Hit } from '../model.ts'

interface State {
  /** Of each field: how many days of effect were entered, and how many of them further back than the limit. */
  fields: Record<string, { entered: number; back: number }>
  /** Of each actor and field with a story: the span of days back. */
  spans: Record<string, [least: number, most: number]>
}

export const backDated = rule<State>({
  name: 'back-dated',
  title: 'Takes effect long before it was entered',
  notices: 'A record whose own day of effect lies far before the day on which it was entered.',
  limits:
    'Only where a record type names the field that says when it takes effect. Compared with how often that field is entered so late; before thirty entries it stays silent.',
  parameters: {
    days: { words: 'days before entry', usual: 60, least: 1, most: 3650 },
    share: {
      words: 'most percent of entries that may be so late before it counts as usual',
      usual: 3,
      least: 0,
      most: 100,
    },
  },
  quietDays: 21,
  weight: 0.88,
  begin: () => ({ fields: {}, spans: {} }),
  notice(save, { fields, spans }, { days, share }, { world, day }) {
    if (save.action === 'delete') return []
    const hits: Hit[] = []
    for (const { fieldId, after } of save.changes) {
      if (!world.field(fieldId)?.effect || after === null || !/^\d{4}-\d\d-\d\d/.test(after)) continue
      const back = Math.round((Date.parse(day) - Date.parse(after.slice(0, 10))) / dayMs)
      const field = (fields[fieldId] ??= { entered: 0, back: 0 })
      const usually = (field.back / Math.max(field.entered, 1)) * 100
      if (back >= days! && field.entered >= 30 && usually <= share!) {
        const key = `${save.actorId} ${fieldId}`
        const [least, most] = spans[key] ?? [back, back]
        spans[key] = [Math.min(least, back), Math.max(most, back)]
        hits.push({
          key,
          saves: [save.id],
          fieldId,
          figures: { leastDays: spans[key][0], mostDays: spans[key][1], entered: field.entered, usualPercent: usually },
        })
      } else {
        field.entered++
        if (back >= days!) field.back++
      }
    }
    return hits
  },
})
