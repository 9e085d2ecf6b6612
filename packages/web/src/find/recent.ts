import { useSessionStorage } from '@vueuse/core'

/** A record that somebody looked at. */
export interface RecentRecord {
  typeId: number
  key: string
  label: string
}

const most = 8

/** Records looked at lately, the latest first; kept for as long as the browser's tab is, and by whom. */
export function useRecent(personId: () => number | undefined) {
  const kept = useSessionStorage<{ person: number; records: RecentRecord[] }>('spoor.recent', {
    person: 0,
    records: [],
  })
  const own = () => (kept.value.person === personId() ? kept.value.records : [])
  return {
    list: own,
    note(record: RecentRecord) {
      const person = personId()
      if (person === undefined) return
      const others = own().filter((one) => one.typeId !== record.typeId || one.key !== record.key)
      kept.value = { person, records: [record, ...others].slice(0, most) }
    },
  }
}
