<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { eventKinds, routes, type EventCount, type EventKind, type SpoorEvent } from '@spoor/contract'
import { grouped, scopeEntries, type Scope } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import GlossaryButton from '../frame/GlossaryButton.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { doneBy } from '../value/done-by.ts'
import { dayOf, dayText, timeText } from '../value/time.ts'
import AroundSentence, { type AroundFilter } from './AroundSentence.vue'
import { usePages } from './saves-list.ts'

/** What was done in Spoor itself, with its outcome: of the sentence its time and its people count here. */
export interface Props {
  scope: Scope
  text: string
  version: number
}
const props = defineProps<Props>()
const nothingAsked: AroundFilter = { kind: '', by: '', outcome: '', words: '' }
const asked = ref<AroundFilter>(nothingAsked)
const sought = refDebounced(
  computed(() => asked.value.words),
  250,
)
const asTable = ref(false)

const scope = computed(() => {
  const { when, who } = props.scope
  return new URLSearchParams(scopeEntries({ ...(when ? { when } : {}), ...(who ? { who } : {}) })).toString()
})
const filter = computed(() => ({
  scope: scope.value,
  ...(asked.value.kind ? { kind: asked.value.kind } : {}),
  ...(asked.value.outcome ? { outcome: asked.value.outcome } : {}),
  ...(sought.value.trim() ? { words: sought.value.trim() } : {}),
}))
const chosen = computed(() => ({ ...filter.value, ...(asked.value.by === '' ? {} : { by: String(asked.value.by) }) }))
const key = computed(() => `${props.version} ${JSON.stringify(chosen.value)}`)
const {
  items: events,
  next,
  loading,
  stale,
  problem,
  more,
} = usePages<SpoorEvent>(key, async (before, signal) => {
  const page = await call(routes.listEvents, {
    query: { ...chosen.value, ...(before === undefined ? {} : { before }) },
    signal,
  })
  return { items: page.events, next: page.next }
})
const { data, error } = useQuery({
  queryKey: ['event-counts', computed(() => props.version), filter],
  queryFn: () => call(routes.countEvents, { query: filter.value }),
  placeholderData: (before) => before,
})
const counts = computed(() => data.value?.counts ?? [])
const nameOf = (count: EventCount) => count.by ?? 'Spoor, or nobody known'
const people = computed(() => {
  const lines = new Map<number, { id: number; name: string; all: number; kinds: Map<string, EventCount> }>()
  for (const count of counts.value) {
    const id = count.personId ?? 0
    const line = lines.get(id) ?? { id, name: nameOf(count), all: 0, kinds: new Map<string, EventCount>() }
    line.all += count.events
    line.kinds.set(count.kind, count)
    lines.set(id, line)
  }
  return [...lines.values()].sort((a, b) => b.all - a.all)
})
const kindsMet = computed(() => eventKinds.filter((one) => counts.value.some((count) => count.kind === one)))

function show(personId: number, wanted: EventKind) {
  asked.value = { ...asked.value, by: personId, kind: wanted }
  asTable.value = false
}
const isNewDay = (at: number) => at === 0 || dayOf(events.value[at - 1]!.at) !== dayOf(events.value[at]!.at)
</script>

<template>
  <div class="rows">
    <ProblemNote v-if="problem ?? error" :problem="problem ?? problemOf(error)" />
    <AroundSentence class="asked" :filter="asked" :people="people" @change="(filter) => (asked = filter)" />
    <div class="kinds">
      <span class="ways" role="group" aria-label="How it is read">
        <button class="plain" :aria-pressed="!asTable" @click="asTable = false">One by one</button>
        <button class="plain" :aria-pressed="asTable" @click="asTable = true">Who × what</button>
      </span>
      <GlossaryButton />
      <span class="quiet">Of the sentence above, its time and its people count here.</span>
    </div>
    <table v-if="asTable" class="counts">
      <thead>
        <tr>
          <th></th>
          <th v-for="one in kindsMet" :key="one" class="figure" scope="col">{{ one }}</th>
          <th class="figure" scope="col">all</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in people" :key="line.id">
          <th scope="row">{{ line.name }}</th>
          <td v-for="one in kindsMet" :key="one" class="figure">
            <button v-if="line.kinds.get(one)" class="plain" @click="show(line.id, one)">
              {{ grouped(line.kinds.get(one)!.events)
              }}<span v-if="line.kinds.get(one)!.refused > 0" class="attention refused"
                >{{ grouped(line.kinds.get(one)!.refused) }} refused</span
              >
            </button>
          </td>
          <td class="figure quiet">{{ grouped(line.all) }}</td>
        </tr>
      </tbody>
    </table>
    <template v-else>
      <table>
        <tbody :class="{ stale }">
          <template v-for="(event, at) in events" :key="event.id">
            <tr v-if="isNewDay(at)">
              <th class="day" colspan="4" scope="rowgroup">{{ dayText(event.at) }}</th>
            </tr>
            <tr>
              <td class="mono time">{{ timeText(event.at) }}</td>
              <td class="quiet">{{ event.kind }}</td>
              <td class="words">
                <b>{{ doneBy(event) }}</b> {{ event.words
                }}<b v-if="event.outcome === 'refused'" class="attention"> (refused)</b>
              </td>
              <td class="mono quiet">{{ event.address ?? '' }}</td>
            </tr>
          </template>
        </tbody>
      </table>
      <p v-if="loading" class="quiet state">Reading …</p>
      <p v-else-if="!problem && events.length === 0" class="state">Nothing of this kind was done in this time.</p>
      <button v-else-if="next !== null" class="plain more" @click="more">Earlier</button>
    </template>
  </div>
</template>

<style scoped>
.rows {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--panel);
}
.kinds {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 18px;
  align-items: center;
  padding: 8px 18px 2px;
  font-size: 13px;
}
.ways {
  display: flex;
  gap: 12px;
}
.ways button {
  color: var(--pine);
}
.ways [aria-pressed='true'] {
  color: var(--ink);
  font-weight: 600;
}
.asked {
  padding: 8px 18px 0;
}
table {
  border-collapse: collapse;
  width: 100%;
  font-size: 13px;
}
.counts {
  width: auto;
}
td,
.counts th {
  padding: 4px 18px;
  border-bottom: 1px solid var(--line-soft);
}
.counts th {
  font-weight: 400;
  text-align: left;
}
.counts thead th {
  color: var(--soft);
}
.figure,
.counts .figure {
  text-align: right;
}
.counts button {
  color: var(--pine);
}
.refused {
  display: block;
  font-size: 11.5px;
}
.day {
  text-align: left;
  padding: 9px 18px 2px;
  font-size: 12.5px;
  font-weight: 600;
  color: var(--soft);
}
.time {
  width: 60px;
}
.words {
  overflow-wrap: anywhere;
}
.state,
.more {
  padding: 10px 18px;
}
.more {
  color: var(--pine);
}
</style>
