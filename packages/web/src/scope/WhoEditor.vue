<script setup lang="ts">
import { actorKinds, kindPlural, type ActorKind, type WhoPart } from '@spoor/core'
import { computed } from 'vue'
import ActorGlyph from '../value/ActorGlyph.vue'
import TickList, { type Entry } from './TickList.vue'
import type { NamedVocabulary } from './vocabulary.ts'

export interface Props {
  part: WhoPart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: WhoPart] }>()

const part = computed<WhoPart>(() => props.part ?? { part: 'who', exclude: false, actors: [], kinds: [] })
const kinds = computed(() =>
  actorKinds.filter(
    (kind) => props.names.actors.some((actor) => actor.kind === kind) || part.value.kinds.includes(kind),
  ),
)
const entries = computed<Entry[]>(() =>
  kinds.value.flatMap((kind) => [
    { id: `k.${kind}`, text: `All ${kindPlural[kind]}` },
    ...props.names.actors
      .filter((actor) => actor.kind === kind)
      .map((actor) => ({ id: `a${actor.id}`, text: actor.name, under: true, group: kindPlural[kind] })),
  ]),
)
const ticked = computed(
  () => new Set([...part.value.actors.map((id) => `a${id}`), ...part.value.kinds.map((kind) => `k.${kind}`)]),
)
const kindOf = (entry: Entry): ActorKind =>
  actorKinds.find((kind) => entry.id === `k.${kind}`) ??
  props.names.actors.find((actor) => entry.id === `a${actor.id}`)?.kind ??
  'unknown'

function without<T>(list: readonly T[], member: T): T[] {
  return list.includes(member) ? list.filter((one) => one !== member) : [...list, member]
}

function toggle(id: string) {
  const kind = actorKinds.find((one) => id === `k.${one}`)
  if (kind) emit('put', { ...part.value, kinds: without(part.value.kinds, kind) })
  else emit('put', { ...part.value, actors: without(part.value.actors, Number(id.slice(1))) })
}
</script>

<template>
  <TickList
    :entries="entries"
    :ticked="ticked"
    find="Find a person, import, job …"
    empty="Nobody has changed anything yet."
    @toggle="toggle"
  >
    <template #default="{ entry }"><ActorGlyph :kind="kindOf(entry)" /> {{ entry.text }}</template>
  </TickList>
</template>
