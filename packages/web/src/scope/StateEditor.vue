<script setup lang="ts">
import { changeStates, type ChangeState, type StatePart } from '@spoor/core'
import { computed } from 'vue'
import TickList, { type Entry } from './TickList.vue'
import type { NamedVocabulary } from './vocabulary.ts'

export interface Props {
  part: StatePart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: StatePart] }>()
const part = computed<StatePart>(() => props.part ?? { part: 'state', exclude: false, states: [], stories: [] })
const words: Record<ChangeState, string> = {
  reviewed: 'Reviewed',
  flagged: 'Flagged',
  asked: 'Asked about, not answered',
  answered: 'Answered',
  assigned: 'Assigned, not done',
  reverted: 'Set back',
  correction: 'Made by a correction',
}
const entries: Entry[] = changeStates.map((state) => ({ id: state, text: words[state] }))
function toggle(id: string) {
  const state = id as ChangeState
  const states = part.value.states.includes(state)
    ? part.value.states.filter((one) => one !== state)
    : [...part.value.states, state]
  emit('put', { ...part.value, states })
}
</script>

<template>
  <TickList :entries="entries" :ticked="new Set<string>(part.states)" find="Find a state" empty="" @toggle="toggle" />
</template>
