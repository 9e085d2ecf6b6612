import { addDays, isDate, startOfDay, wallClock } from '@spoor/core'
import { computed, type ComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { readerZone } from '../value/time.ts'

/** The spell that Today tells of: since the last visit, or between two days of the reader's, both included. */
export interface Spell {
  /** `YYYY-MM-DD`, or null for since the last visit. */
  from: string | null
  to: string | null
}

export function useSpell(): { spell: ComputedRef<Spell>; choose: (spell: Spell) => void } {
  const route = useRoute()
  const router = useRouter()
  const day = (value: unknown) => (typeof value === 'string' && isDate(value) ? value : null)
  return {
    spell: computed(() => {
      const from = day(route.query['from'])
      return { from, to: from === null ? null : day(route.query['to']) }
    }),
    choose({ from, to }) {
      void router.replace({
        query: { ...(from === null ? {} : { from }), ...(from === null || to === null ? {} : { to }) },
      })
    },
  }
}

/** Its ends as the server takes them. */
export function spellInstants({ from, to }: Spell): { from?: string; until?: string } {
  if (from === null) return {}
  const instant = (day: string) => new Date(startOfDay(day, readerZone)).toISOString()
  return to === null ? { from: instant(from) } : { from: instant(from), until: instant(addDays(to, 1)) }
}

/** Spells that are asked for often. */
export function usualSpells(): { name: string; spell: Spell }[] {
  const today = wallClock(Date.now(), readerZone).date
  const back = (days: number): Spell => ({ from: addDays(today, -days), to: null })
  return [
    { name: 'since you last looked', spell: { from: null, to: null } },
    { name: 'today', spell: back(0) },
    { name: 'yesterday', spell: { from: addDays(today, -1), to: addDays(today, -1) } },
    { name: 'the last week', spell: back(7) },
    { name: 'the last month', spell: back(30) },
  ]
}
