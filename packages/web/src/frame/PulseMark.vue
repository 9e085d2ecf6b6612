<script setup lang="ts">
import { counted } from '@spoor/core'
import { computed } from 'vue'
import { usePulse } from './pulse.ts'

const store = usePulse()

/** Behind by more than this is worth a look. */
const calmMs = 5000

const state = computed(() => {
  if (store.lost) return { text: 'no word from the server', wrong: true }
  const sources = store.pulse?.sources ?? []
  const trouble = sources.find((source) => source.trouble !== null)
  if (trouble) return { text: `${trouble.name}: ${trouble.trouble}`, wrong: true }
  const rate = store.perMinute === null ? '' : ` · ${counted(store.perMinute, 'save')} a minute`
  const behindMs = Math.max(0, ...sources.map((source) => source.behindMs))
  if (behindMs === 0) return { text: store.pulse ? `ledger up to date${rate}` : '', wrong: false }
  const waiting = sources.reduce((sum, source) => sum + source.waiting, 0)
  return {
    text: `${(behindMs / 1000).toFixed(1)} s behind · ${counted(waiting, 'row')} waiting${rate}`,
    wrong: behindMs > calmMs,
  }
})
</script>

<template>
  <span class="pulse" :class="{ wrong: state.wrong }" role="status" :title="state.text">{{ state.text }}</span>
</template>

<style scoped>
.pulse {
  font-size: 12px;
  color: var(--bar-soft);
  max-width: 320px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.wrong {
  color: #ffc9e4;
  font-weight: 600;
}
</style>
