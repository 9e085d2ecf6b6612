/** The ways to read one scope, in the order in which they stand. */
export const readings = [
  { id: 'saves', title: 'Saves' },
  { id: 'changes', title: 'Changes' },
  { id: 'days', title: 'Days' },
  { id: 'records', title: 'Records' },
  { id: 'pairs', title: 'Who × what' },
  { id: 'time', title: 'Over time' },
  { id: 'work', title: 'Work out' },
  { id: 'around', title: 'Around the records' },
] as const
export type ReadingId = (typeof readings)[number]['id']

export function readingOf(text: unknown): ReadingId {
  return readings.find((reading) => reading.id === text)?.id ?? 'saves'
}
