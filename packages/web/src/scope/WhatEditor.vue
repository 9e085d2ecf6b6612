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
const areas = computed(() => [...new Set(props.names.types.map((type) => type.area))])
const typesOf = (area: string) => props.names.types.filter((type) => type.area === area).map((type) => type.id)
const entries = computed<Entry[]>(() =>
  areas.value.flatMap((area) => [
    { id: `A${area}`, text: `Everything in ${area}` },
    ...props.names.types
      .filter((type) => type.area === area)
      .flatMap((type) => [
        { id: `t${type.id}`, text: `All of ${type.plural}`, group: type.area },
        ...props.names.fields
          .filter((field) => field.typeId === type.id)
          .map((field) => ({ id: `f${field.id}`, text: field.name, under: true, group: type.plural })),
      ]),
  ]),
)
const ticked = computed(
  () =>
    new Set([
      ...areas.value
        .filter((area) => typesOf(area).every((id) => part.value.types.includes(id)))
        .map((area) => `A${area}`),
      ...part.value.types.map((id) => `t${id}`),
      ...part.value.fields.map((id) => `f${id}`),
    ]),
)

function toggle(id: string) {
  if (id.startsWith('A')) {
    const inside = typesOf(id.slice(1))
    const all = inside.every((one) => part.value.types.includes(one))
    const others = part.value.types.filter((one) => !inside.includes(one))
    emit('put', { ...part.value, types: all ? others : [...others, ...inside] })
    return
  }
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
