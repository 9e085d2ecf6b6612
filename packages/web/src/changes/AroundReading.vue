<script setup lang="ts">
import { eventKinds, routes, type EventKind, type SpoorEvent } from '@spoor/contract'
import { instantsOf, settled, type Scope } from '@spoor/core'
import { computed, ref } from 'vue'
import { call } from '../api/client.ts'
import GlossaryButton from '../frame/GlossaryButton.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { fullTime } from '../value/time.ts'
import { usePages } from './saves-list.ts'

/** What was done in Spoor itself, with its outcome, in the scope's time: of the sentence only the days count here. */
export interface Props {
  scope: Scope
  text: string
  version: number
}
const props = defineProps<Props>()
const session = useSession()
const kind = ref<EventKind | ''>('')
const {
  items: events,
  next,
  loading,
  stale,
  problem,
  more,
} = usePages<SpoorEvent>(
  computed(() => `${props.version} ${kind.value} ${JSON.stringify(props.scope.when ?? null)}`),
  async (before, signal) => {
    const { when } = settled(props.scope, session.person?.lookedAt ?? '1970-01-01T00:00:00Z')
    const span = when && !when.exclude ? instantsOf(when.span, Date.now()) : { fromMs: null, toMs: null }
    const query = {
      ...(kind.value ? { kind: kind.value } : {}),
      ...(before === undefined ? {} : { before }),
      ...(span.fromMs === null ? {} : { from: new Date(span.fromMs).toISOString() }),
      ...(span.toMs === null ? {} : { to: new Date(span.toMs).toISOString() }),
    }
    const page = await call(routes.listEvents, { query, signal })
    return { items: page.events, next: page.next }
  },
)
</script>

<template>
  <div class="rows">
    <ProblemNote v-if="problem" :problem="problem" />
    <p class="kinds">
      <label
        >Kind
        <select v-model="kind">
          <option value="">every kind</option>
          <option v-for="one in eventKinds" :key="one" :value="one">{{ one }}</option>
        </select></label
      >
      <span class="quiet">What was done in Spoor itself. Of the sentence above, only its days count here.</span>
      <GlossaryButton />
    </p>
    <table>
      <tbody :class="{ stale }">
        <tr v-for="event in events" :key="event.id">
          <td class="quiet time">{{ fullTime(event.at) }}</td>
          <td class="quiet">{{ event.kind }}</td>
          <td>
            <b>{{ event.by ?? 'Somebody' }}</b> {{ event.words
            }}<b v-if="event.outcome === 'refused'" class="attention"> (refused)</b>
          </td>
          <td class="mono quiet">{{ event.address ?? '' }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="loading" class="quiet state">Reading …</p>
    <p v-else-if="!problem && events.length === 0" class="state">Nothing of this kind was done in this time.</p>
    <button v-else-if="next !== null" class="plain more" @click="more">Earlier</button>
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
  gap: 18px;
  align-items: center;
  padding: 8px 18px;
  font-size: 13px;
}
select {
  font: inherit;
  font-size: 13px;
  height: 26px;
  background: var(--panel);
  color: var(--ink);
  border: 1px solid var(--faint);
  border-radius: 3px;
}
table {
  border-collapse: collapse;
  width: 100%;
  font-size: 13px;
}
td {
  padding: 4px 18px;
  border-bottom: 1px solid var(--line-soft);
}
.time {
  white-space: nowrap;
}
.state,
.more {
  padding: 10px 18px;
}
.more {
  color: var(--pine);
}
</style>
