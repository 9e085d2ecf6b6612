<script setup lang="ts">
import { counted } from '@spoor/core'
import { computed } from 'vue'
import { useSession } from '../session/session.ts'
import { timeText } from '../value/time.ts'
import { usePulse } from './pulse.ts'

const store = usePulse()
const session = useSession()

/** Behind by more than this is worth a look. */
const calmMs = 5000

const state = computed((): { text: string; wrong: boolean; to?: string } => {
  if (store.lost) return { text: 'no word from the server', wrong: true }
  const sources = store.pulse?.sources ?? []
  if (store.pulse && store.pulse.mismatches > 0) return { text: 'the ledger does not match its seals', wrong: true }
  if (store.pulse && store.pulse.alarms > 0)
    return { text: `${counted(store.pulse.alarms, 'thing')} wrong, to be settled`, wrong: true, to: '/today#alarms' }
  const trouble = sources.find((source) => source.trouble !== null)
  if (trouble) return { text: `${trouble.name}: ${trouble.trouble}`, wrong: true }
  const rate = store.perMinute === null ? '' : ` · ${counted(store.perMinute, 'save')} a minute`
  const sealed = store.pulse?.sealedAt ? ` · sealed ${timeText(store.pulse.sealedAt)}` : ''
  const behindMs = Math.max(0, ...sources.map((source) => source.behindMs))
  if (behindMs === 0) return { text: store.pulse ? `ledger up to date${rate}${sealed}` : '', wrong: false }
  const waiting = sources.reduce((sum, source) => sum + source.waiting, 0)
  return {
    text: `${(behindMs / 1000).toFixed(1)} s behind · ${counted(waiting, 'row')} waiting${rate}`,
    wrong: behindMs > calmMs,
  }
})
</script>

<template>
  <span v-if="session.may('custody.read')" role="status"
    ><RouterLink
      :to="state.to ?? '/custody'"
      class="pulse"
      :class="{ wrong: state.wrong }"
      :title="`${state.text}. ${state.to ? 'To what is wrong' : 'To the custody of the ledger'}`"
      >{{ state.text }}</RouterLink
    ></span
  >
  <span v-else class="pulse" :class="{ wrong: state.wrong }" role="status" :title="state.text">{{ state.text }}</span>
</template>

<style scoped>
.pulse {
  text-decoration: none;
  font-size: 12px;
  color: var(--bar-soft);
  max-width: 380px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.wrong {
  color: #ffc9e4;
  font-weight: 600;
}
</style>
