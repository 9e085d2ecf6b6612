<script setup lang="ts">
import {
  actorKinds,
  capitalised,
  groupsOf,
  groupWords,
  kindPlural,
  type ActorKind,
  type WhoGroup,
  type WhoPart,
} from '@spoor/core'
import InputNumber from 'ant-design-vue/es/input-number'
import { computed, ref } from 'vue'
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
const months = ref(groupsOf(part.value).find((group) => group.group === 'joined')?.months ?? 6)
/** Groups that can be ticked: those that are, and those that the staff list knows. */
const groups = computed<WhoGroup[]>(() => [
  { group: 'me' },
  { group: 'left' },
  { group: 'joined', months: months.value },
  ...props.names.units.map((unit) => ({ group: 'unit' as const, unit })),
  ...groupsOf(part.value).filter((group) => group.group === 'unit' && !props.names.units.includes(group.unit)),
])
const idOf = (group: WhoGroup) => `g.${group.group === 'unit' ? `unit ${group.unit}` : group.group}`
const entries = computed<Entry[]>(() => [
  ...groups.value.map((group) => ({ id: idOf(group), text: capitalised(groupWords(group)) })),
  ...kinds.value.flatMap((kind) => [
    { id: `k.${kind}`, text: `All ${kindPlural[kind]}` },
    ...props.names.actors
      .filter((actor) => actor.kind === kind)
      .map((actor) => ({ id: `a${actor.id}`, text: actor.name, under: true, group: kindPlural[kind] })),
  ]),
])
const ticked = computed(
  () =>
    new Set([
      ...part.value.actors.map((id) => `a${id}`),
      ...part.value.kinds.map((kind) => `k.${kind}`),
      ...groupsOf(part.value).map(idOf),
    ]),
)
const isGroup = (entry: Entry) => entry.id.startsWith('g.')
const kindOf = (entry: Entry): ActorKind =>
  actorKinds.find((kind) => entry.id === `k.${kind}`) ??
  props.names.actors.find((actor) => entry.id === `a${actor.id}`)?.kind ??
  'unknown'

function without<T>(list: readonly T[], member: T): T[] {
  return list.includes(member) ? list.filter((one) => one !== member) : [...list, member]
}

function putGroups(next: readonly WhoGroup[]) {
  const { groups: _, ...rest } = part.value
  emit('put', next.length > 0 ? { ...rest, groups: next } : rest)
}
function setMonths(given: number | null) {
  if (given === null) return
  months.value = given
  const now = groupsOf(part.value)
  if (now.some((group) => group.group === 'joined'))
    putGroups(now.map((group) => (group.group === 'joined' ? { ...group, months: given } : group)))
}

function toggle(id: string) {
  const group = groups.value.find((one) => idOf(one) === id)
  if (group) {
    const now = groupsOf(part.value)
    putGroups(now.some((one) => idOf(one) === id) ? now.filter((one) => idOf(one) !== id) : [...now, group])
    return
  }
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
    <template #default="{ entry }"
      ><template v-if="entry.id === 'g.joined'"
        >Whoever joined in the last
        <InputNumber
          :value="months"
          :min="1"
          :max="99"
          :precision="0"
          size="small"
          class="months"
          aria-label="Months"
          @click.prevent
          @change="(given: unknown) => setMonths(given as number | null)"
        />
        months</template
      ><template v-else
        ><ActorGlyph v-if="!isGroup(entry)" :kind="kindOf(entry)" /> {{ entry.text }}</template
      ></template
    >
  </TickList>
</template>

<style scoped>
.months {
  width: 58px;
}
</style>
