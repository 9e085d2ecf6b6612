<script setup lang="ts">
import { capitalised, type WhatPart } from '@spoor/core'
import { computed } from 'vue'
import TickList, { type Entry } from './TickList.vue'
import type { NamedVocabulary } from './vocabulary.ts'

export interface Props {
  part: WhatPart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: WhatPart] }>()

const part = computed<WhatPart>(() => props.part ?? { part: 'what', exclude: false, types: [], fields: [] })
const entries = computed<Entry[]>(() => props.names.types.flatMap((type) => [
  { id: `t${type.id}`, text: `All of ${type.plural}`, group: type.area },
  ...props.names.fields.filter((field) => field.typeId === type.id).map((field) => ({ id: `f${field.id}`, text: field.name, under: true, group: type.plural })),
])) // prettier-ignore
const ticked = computed(
  () => new Set([...part.value.types.map((id) => `t${id}`), ...part.value.fields.map((id) => `f${id}`)]),
)

function toggle(id: string) {
  const number = Number(id.slice(1))
  const list = id.startsWith('t') ? 'types' : 'fields'
  const before = part.value[list]
  emit('put', {
    ...part.value,
    [list]: before.includes(number) ? before.filter((one) => one !== number) : [...before, number],
  })
}
</script>

<template>
  <TickList
    :entries="entries"
    :ticked="ticked"
    find="Find a record type or field"
    empty="No field is tracked yet. Switch fields on under Tracking."
    @toggle="toggle"
  >
    <template #default="{ entry }">{{ entry.under ? entry.text : capitalised(entry.text) }}</template>
  </TickList>
</template>
