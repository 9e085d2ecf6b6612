import type { Save } from '@spoor/contract'
import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

/** What a person picked; it stays while they move between views. */
export const useTray = defineStore('tray', () => {
  const saves = ref(new Map<string, Save>())
  return {
    saves: computed(() => [...saves.value.values()]),
    holds: (save: Save) => saves.value.has(save.id),
    toggle(save: Save) {
      const next = new Map(saves.value)
      if (!next.delete(save.id)) next.set(save.id, save)
      saves.value = next
    },
    add(more: readonly Save[]) {
      saves.value = new Map([...saves.value, ...more.map((save) => [save.id, save] as const)])
    },
    remove(some: readonly Save[]) {
      const next = new Map(saves.value)
      for (const save of some) next.delete(save.id)
      saves.value = next
    },
    empty() {
      saves.value = new Map()
    },
  }
})
