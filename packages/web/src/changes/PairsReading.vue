<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { counted, grouped, unusual, withPair, type Scope } from '@spoor/core'
import { computed } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import ActorGlyph from '../value/ActorGlyph.vue'

/** Who changed what: saves by actor and record type, with what is usual, so that the unusual stands out. */
export interface Props {
  scope: Scope
  text: string
  version: number
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ show: [scope: Scope] }>()
const { data, error, isPending } = useQuery({
  queryKey: ['pairs', computed(() => props.text), computed(() => props.version)],
  queryFn: () => call(routes.readPairs, { query: { scope: props.text } }),
})
const sum = (pairs: readonly { saves: number }[]) => pairs.reduce((total, pair) => total + pair.saves, 0)
const pairs = computed(() => data.value?.pairs ?? [])
function groupsBy(of: (pair: (typeof pairs.value)[number]) => number) {
  const groups = new Map<number, (typeof pairs.value)[number][]>()
  for (const pair of pairs.value) groups.set(of(pair), [...(groups.get(of(pair)) ?? []), pair])
  return [...groups].map(([id, list]) => ({ id, list, total: sum(list) })).sort((a, b) => b.total - a.total)
}
const actors = computed(() => groupsBy((pair) => pair.actorId))
const types = computed(() => groupsBy((pair) => pair.typeId))

function cell(list: typeof pairs.value, typeId: number) {
  const own = list.filter((pair) => pair.typeId === typeId)
  if (own.length === 0) return null
  const saves = sum(own)
  const usual = own[0]!.usual
  return { saves, usual, stands: usual !== null && unusual(saves, usual) }
}
function only(actorId: number, typeId: number): Scope {
  return withPair(props.scope, { actorId, typeId })
}
const usualWords = (usual: number) =>
  usual === 0 ? 'never before' : `usually ${usual < 10 ? usual.toFixed(1) : grouped(Math.round(usual))}`
</script>

<template>
  <div class="rows">
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-if="isPending" class="quiet state">Counting …</p>
    <template v-else-if="pairs.length > 0">
      <p class="quiet state">
        <template v-if="data!.spells > 0"
          >Compared with {{ counted(data!.spells, 'spell') }} as long before this one. What is far above the usual
          stands in plum.</template
        ><template v-else>Nothing to compare with: say from when in the sentence, and what is usual is shown.</template>
      </p>
      <table>
        <thead>
          <tr>
            <th></th>
            <th v-for="type in types" :key="type.id" class="figure" scope="col">{{ names.typeTitle(type.id) }}</th>
            <th class="figure" scope="col">all</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="actor in actors" :key="actor.id">
            <th scope="row">
              <ActorGlyph :kind="actor.list[0]!.kind" /> {{ names.actor(actor.id) ?? `actor ${actor.id}` }}
            </th>
            <td v-for="type in types" :key="type.id" class="figure">
              <button
                v-if="cell(actor.list, type.id)"
                class="plain"
                :class="{ stands: cell(actor.list, type.id)!.stands }"
                :title="cell(actor.list, type.id)!.usual === null ? '' : usualWords(cell(actor.list, type.id)!.usual!)"
                @click="emit('show', only(actor.id, type.id))"
              >
                {{ grouped(cell(actor.list, type.id)!.saves)
                }}<span v-if="cell(actor.list, type.id)!.stands" class="usual">{{
                  usualWords(cell(actor.list, type.id)!.usual!)
                }}</span>
              </button>
            </td>
            <td class="figure quiet">{{ grouped(actor.total) }}</td>
          </tr>
        </tbody>
      </table>
    </template>
    <slot v-else-if="!error" name="empty" />
  </div>
</template>

<style scoped>
.rows {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--panel);
}
table {
  border-collapse: collapse;
  font-size: 13px;
}
thead th {
  position: sticky;
  top: 0;
  background: var(--raised);
  color: var(--soft);
  vertical-align: bottom;
}
th {
  font-weight: 400;
  text-align: left;
  white-space: nowrap;
}
td,
th {
  height: 28px;
  padding: 0 12px;
  border-bottom: 1px solid var(--line-soft);
}
th:first-child {
  padding-left: 18px;
}
.figure {
  text-align: right;
}
.stands {
  color: var(--plum);
  font-weight: 600;
}
.usual {
  display: block;
  font-weight: 400;
  font-size: 11.5px;
  line-height: 14px;
}
.state {
  padding: 8px 18px;
}
</style>
