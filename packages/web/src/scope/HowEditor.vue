<script setup lang="ts">
import { scopeActions, transactionsOf, type HowPart, type ScopeAction } from '@spoor/core'
import { computed } from 'vue'
import TickList, { type Entry } from './TickList.vue'
import type { NamedVocabulary } from './vocabulary.ts'

export interface Props {
  part: HowPart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: HowPart] }>()
const part = computed<HowPart>(() => props.part ?? { part: 'how', exclude: false, actions: [], channels: [], runs: [] })
const words: Record<ScopeAction, string> = {
  create: 'created',
  change: 'changed',
  delete: 'deleted',
  restore: 'restored',
}
const entries = computed<Entry[]>(() => [
  ...scopeActions.map((action) => ({ id: action, text: `Records ${words[action]}` })),
  ...props.names.channels.map((channel) => ({ id: `c.${channel}`, text: `Through ${channel}` })),
  ...part.value.runs.map((id) => ({ id: `r${id}`, text: props.names.run(id) ?? `In run ${id}` })),
  ...transactionsOf(part.value).map((save) => ({ id: `x${save}`, text: `In the transaction of save ${save}` })),
])
const ticked = computed(
  () =>
    new Set([
      ...part.value.actions,
      ...part.value.channels.map((channel) => `c.${channel}`),
      ...part.value.runs.map((id) => `r${id}`),
      ...transactionsOf(part.value).map((save) => `x${save}`),
    ]),
)
const without = <T,>(list: readonly T[], member: T): T[] =>
  list.includes(member) ? list.filter((one) => one !== member) : [...list, member]

function putTransactions(next: readonly string[]) {
  const { transactions: _, ...rest } = part.value
  emit('put', next.length > 0 ? { ...rest, transactions: next } : rest)
}

function toggle(id: string) {
  const action = scopeActions.find((one) => one === id)
  if (action) emit('put', { ...part.value, actions: without(part.value.actions, action) })
  else if (id.startsWith('c.')) emit('put', { ...part.value, channels: without(part.value.channels, id.slice(2)) })
  else if (id.startsWith('x')) putTransactions(without(transactionsOf(part.value), id.slice(1)))
  else emit('put', { ...part.value, runs: without(part.value.runs, Number(id.slice(1))) })
}
</script>

<template>
  <TickList
    :entries="entries"
    :ticked="ticked"
    find="Find an act or a channel"
    empty="Nothing was saved yet."
    @toggle="toggle"
  />
</template>
