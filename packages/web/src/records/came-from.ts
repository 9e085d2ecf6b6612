import { defineStore } from 'pinia'
import { ref } from 'vue'

export interface ListedRecord {
  typeId: number
  key: string
}

/** The list that somebody came to a record from, so that the next of it is at hand without going back. */
export const useCameFrom = defineStore('came-from', () => {
  const list = ref<readonly ListedRecord[]>([])
  return {
    list,
    /** @param records in the order of the list, of which one was pressed */
    from(records: readonly ListedRecord[]) {
      list.value = records.map(({ typeId, key }) => ({ typeId, key }))
    },
    /** The neighbours of a record in it; null where it is not of that list. */
    around({ typeId, key }: ListedRecord) {
      const at = list.value.findIndex((one) => one.typeId === typeId && one.key === key)
      if (at < 0) return null
      return { place: at + 1, of: list.value.length, before: list.value[at - 1], after: list.value[at + 1] }
    },
  }
})
